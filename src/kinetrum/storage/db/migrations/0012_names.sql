-- Whether runs of an experiment that are begun without a name get a generated one.
ALTER TABLE experiment ADD COLUMN generates_names BOOLEAN NOT NULL DEFAULT TRUE;

-- Names that experiments and models had before: what was recorded, written down or deployed under them still leads there.
CREATE TABLE earlier_name (
  project_id INT UNSIGNED NOT NULL,
  kind VARCHAR(10) NOT NULL,
  name VARCHAR(100) NOT NULL,
  row_id INT UNSIGNED NOT NULL,
  since DATETIME(6) NOT NULL,
  PRIMARY KEY (project_id, kind, name),
  KEY earlier_name_of (kind, row_id),
  CONSTRAINT earlier_name_project FOREIGN KEY (project_id) REFERENCES project (project_id)
) ENGINE=InnoDB;

-- A model that was put out of sight; its versions, and what rests on them, stay.
ALTER TABLE model ADD COLUMN binned_at DATETIME(6) NULL, ADD COLUMN binned_by INT UNSIGNED NULL;
