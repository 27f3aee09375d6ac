-- Where a model, a version, a piece of evidence, a change of a stage or a note came from, where it came with an archive,
-- and by whom it is said to be: the account beside it is the one that took the archive in.
ALTER TABLE model ADD COLUMN imported_at DATETIME(6) NULL, ADD COLUMN imported_from VARCHAR(200) NULL;

ALTER TABLE model_version ADD COLUMN imported_at DATETIME(6) NULL, ADD COLUMN imported_from VARCHAR(200) NULL;

ALTER TABLE evidence ADD COLUMN imported_from VARCHAR(200) NULL;

ALTER TABLE stage_event ADD COLUMN imported_from VARCHAR(200) NULL;

ALTER TABLE note ADD COLUMN imported_from VARCHAR(200) NULL;

-- Verdicts that stood where an archive was made. They are shown and count for nothing: no account here gave them.
CREATE TABLE imported_verdict (
  model_id INT UNSIGNED NOT NULL,
  number INT UNSIGNED NOT NULL,
  position INT UNSIGNED NOT NULL,
  said_by VARCHAR(200) NOT NULL,
  approves BOOLEAN NOT NULL,
  comment TEXT NOT NULL,
  given_at DATETIME(6) NOT NULL,
  PRIMARY KEY (model_id, number, position),
  FOREIGN KEY (model_id, number) REFERENCES model_version (model_id, number)
) ENGINE=InnoDB;
