CREATE TABLE event (
  event_id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  project_id INT UNSIGNED NULL,
  kind VARCHAR(12) NOT NULL,
  subject VARCHAR(400) NOT NULL,
  experiment VARCHAR(100) NULL,
  word VARCHAR(40) NULL,
  at DATETIME(6) NOT NULL,
  stamp BIGINT UNSIGNED NULL,
  UNIQUE KEY event_stamp (stamp),
  KEY event_at (at)
) ENGINE=InnoDB;

CREATE TABLE event_order (
  name VARCHAR(20) NOT NULL PRIMARY KEY,
  last_stamp BIGINT UNSIGNED NOT NULL
) ENGINE=InnoDB;

INSERT IGNORE INTO event_order (name, last_stamp) VALUES ('all', 0);

CREATE TABLE run_output (
  run_id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  next_line BIGINT UNSIGNED NOT NULL,
  head_end BIGINT UNSIGNED NULL,
  kept_bytes BIGINT UNSIGNED NOT NULL
) ENGINE=InnoDB;

CREATE TABLE output_block (
  run_id BIGINT UNSIGNED NOT NULL,
  first_line BIGINT UNSIGNED NOT NULL,
  line_count INT UNSIGNED NOT NULL,
  size_bytes INT UNSIGNED NOT NULL,
  payload MEDIUMBLOB NOT NULL,
  PRIMARY KEY (run_id, first_line)
) ENGINE=InnoDB;

CREATE TABLE output_writer (
  run_id BIGINT UNSIGNED NOT NULL,
  writer_uid BINARY(16) NOT NULL,
  position BIGINT UNSIGNED NOT NULL,
  open_lines MEDIUMTEXT NOT NULL,
  PRIMARY KEY (run_id, writer_uid)
) ENGINE=InnoDB;

CREATE TABLE kept_text (
  project_id INT UNSIGNED NOT NULL,
  sha256 BINARY(32) NOT NULL,
  size_bytes INT UNSIGNED NOT NULL,
  content MEDIUMBLOB NOT NULL,
  PRIMARY KEY (project_id, sha256)
) ENGINE=InnoDB;

CREATE TABLE resource_block (
  run_id BIGINT UNSIGNED NOT NULL,
  first_at BIGINT UNSIGNED NOT NULL,
  uid BINARY(16) NOT NULL,
  payload MEDIUMBLOB NOT NULL,
  PRIMARY KEY (run_id, first_at, uid)
) ENGINE=InnoDB;

CREATE TABLE visit (
  person_id INT UNSIGNED NOT NULL PRIMARY KEY,
  visited_at DATETIME(6) NOT NULL,
  before_at DATETIME(6) NULL,
  CONSTRAINT visit_of_person FOREIGN KEY (person_id) REFERENCES person (person_id)
) ENGINE=InnoDB;

ALTER TABLE run_artifact ADD COLUMN activity VARCHAR(100) NULL;

ALTER TABLE run ADD KEY run_ended (ended_at);
