ALTER TABLE run
  ADD COLUMN resumed_at DATETIME(6) NULL,
  ADD COLUMN binned_at DATETIME(6) NULL,
  ADD COLUMN binned_by INT UNSIGNED NULL,
  ADD KEY run_binned (experiment_id, binned_at),
  ADD KEY run_parent (parent_uid);

CREATE TABLE note (
  note_id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  uid BINARY(16) NOT NULL,
  project_id INT UNSIGNED NOT NULL,
  subject_kind VARCHAR(12) NOT NULL,
  subject_id BIGINT UNSIGNED NOT NULL,
  author_id INT UNSIGNED NOT NULL,
  text MEDIUMTEXT NOT NULL,
  written_at DATETIME(6) NOT NULL,
  UNIQUE KEY note_uid (uid),
  KEY note_subject (subject_kind, subject_id, note_id),
  CONSTRAINT note_author FOREIGN KEY (author_id) REFERENCES person (person_id)
) ENGINE=InnoDB;
