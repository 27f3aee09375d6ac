-- How much a project may take, where an administrator says so; and what it took of that on a day (UTC).
CREATE TABLE project_quota (
  project_id INT UNSIGNED NOT NULL PRIMARY KEY,
  bytes BIGINT UNSIGNED NULL,
  runs_a_day INT UNSIGNED NULL,
  points_a_day BIGINT UNSIGNED NULL,
  CONSTRAINT project_quota_of FOREIGN KEY (project_id) REFERENCES project (project_id)
) ENGINE=InnoDB;

CREATE TABLE project_day (
  project_id INT UNSIGNED NOT NULL,
  day DATE NOT NULL,
  runs BIGINT UNSIGNED NOT NULL,
  points BIGINT UNSIGNED NOT NULL,
  PRIMARY KEY (project_id, day),
  CONSTRAINT project_day_of FOREIGN KEY (project_id) REFERENCES project (project_id)
) ENGINE=InnoDB;
