ALTER TABLE key_name MODIFY scope VARCHAR(8) NOT NULL COMMENT 'param, value, label or field';

CREATE TABLE saved_view (
  view_id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  uid BINARY(16) NOT NULL,
  project_id INT UNSIGNED NOT NULL,
  experiment_id INT UNSIGNED NULL,
  name VARCHAR(100) NOT NULL,
  shared BOOL NOT NULL,
  author_id INT UNSIGNED NOT NULL,
  arrangement TEXT NOT NULL,
  version INT UNSIGNED NOT NULL,
  saved_at DATETIME(6) NOT NULL,
  UNIQUE KEY saved_view_uid (uid),
  KEY saved_view_place (project_id, experiment_id),
  CONSTRAINT view_project FOREIGN KEY (project_id) REFERENCES project (project_id),
  CONSTRAINT view_author FOREIGN KEY (author_id) REFERENCES person (person_id)
) ENGINE=InnoDB;

CREATE TABLE view_link (
  link_id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  secret_sha256 BINARY(32) NOT NULL,
  project_id INT UNSIGNED NOT NULL,
  experiment_id INT UNSIGNED NOT NULL,
  arrangement TEXT NOT NULL,
  author_id INT UNSIGNED NOT NULL,
  made_at DATETIME(6) NOT NULL,
  expires_at DATETIME(6) NOT NULL,
  revoked_at DATETIME(6) NULL,
  UNIQUE KEY view_link_secret (secret_sha256),
  KEY view_link_project (project_id),
  CONSTRAINT link_project FOREIGN KEY (project_id) REFERENCES project (project_id),
  CONSTRAINT link_author FOREIGN KEY (author_id) REFERENCES person (person_id)
) ENGINE=InnoDB;

ALTER TABLE project ADD COLUMN embedding_origins TEXT NOT NULL DEFAULT '[]';

ALTER TABLE project ADD COLUMN labels TEXT NOT NULL DEFAULT '{}';

ALTER TABLE experiment ADD COLUMN labels TEXT NOT NULL DEFAULT '{}';
