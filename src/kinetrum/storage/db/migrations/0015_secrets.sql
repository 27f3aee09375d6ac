-- Secrets of projects, sealed with a key that the database does not have (AES-GCM, bound to project and name).
CREATE TABLE project_secret (
  project_id INT UNSIGNED NOT NULL,
  name VARCHAR(100) NOT NULL,
  sealed VARBINARY(4200) NOT NULL,
  set_at DATETIME(6) NOT NULL,
  set_by INT UNSIGNED NOT NULL,
  PRIMARY KEY (project_id, name),
  CONSTRAINT project_secret_of FOREIGN KEY (project_id) REFERENCES project (project_id),
  CONSTRAINT project_secret_by FOREIGN KEY (set_by) REFERENCES person (person_id)
) ENGINE=InnoDB;
