ALTER TABLE model
  ADD COLUMN card MEDIUMTEXT NOT NULL DEFAULT '',
  ADD COLUMN card_revision INT UNSIGNED NOT NULL DEFAULT 0,
  ADD COLUMN card_sections TEXT NOT NULL DEFAULT '[]',
  ADD COLUMN gates TEXT NOT NULL DEFAULT '',
  ADD COLUMN owner_id INT UNSIGNED NULL,
  ADD COLUMN labels TEXT NOT NULL DEFAULT '{}',
  ADD COLUMN image VARCHAR(500) NULL;

ALTER TABLE stage ADD COLUMN placers TEXT NOT NULL DEFAULT '[]';

ALTER TABLE model_version
  ADD COLUMN labels TEXT NOT NULL DEFAULT '{}',
  ADD COLUMN added_values MEDIUMTEXT NOT NULL DEFAULT '{}',
  ADD COLUMN signature MEDIUMTEXT NULL;

ALTER TABLE stage_event
  ADD COLUMN checks MEDIUMTEXT NULL,
  ADD COLUMN override_reason TEXT NULL;

CREATE TABLE evidence (
  evidence_id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  uid BINARY(16) NOT NULL,
  model_id INT UNSIGNED NOT NULL,
  number INT UNSIGNED NOT NULL,
  data_name VARCHAR(250) NOT NULL,
  data_digest CHAR(64) NULL,
  run_id BIGINT UNSIGNED NOT NULL,
  rows_version BIGINT UNSIGNED NULL,
  results MEDIUMTEXT NOT NULL,
  created_by INT UNSIGNED NOT NULL,
  created_at DATETIME(6) NOT NULL,
  UNIQUE KEY evidence_uid (uid),
  KEY evidence_of_version (model_id, number),
  KEY evidence_run (run_id),
  KEY evidence_rows (rows_version),
  CONSTRAINT evidence_version FOREIGN KEY (model_id, number) REFERENCES model_version (model_id, number),
  CONSTRAINT evidence_content FOREIGN KEY (rows_version) REFERENCES artifact_version (version_id)
) ENGINE=InnoDB;

CREATE TABLE version_fetch (
  model_id INT UNSIGNED NOT NULL,
  number INT UNSIGNED NOT NULL,
  person_id INT UNSIGNED NOT NULL,
  asked VARCHAR(100) NOT NULL,
  fetches INT UNSIGNED NOT NULL,
  first_at DATETIME(6) NOT NULL,
  last_at DATETIME(6) NOT NULL,
  PRIMARY KEY (model_id, number, person_id, asked),
  CONSTRAINT fetch_version FOREIGN KEY (model_id, number) REFERENCES model_version (model_id, number)
) ENGINE=InnoDB;
