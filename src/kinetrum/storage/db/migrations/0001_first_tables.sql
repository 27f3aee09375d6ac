CREATE TABLE person (
  person_id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(100) NOT NULL,
  full_name VARCHAR(200) NOT NULL,
  password_hash VARCHAR(200) NOT NULL,
  is_admin BOOL NOT NULL,
  created_at DATETIME(6) NOT NULL,
  UNIQUE KEY person_name (name)
) ENGINE=InnoDB;

CREATE TABLE token (
  token_id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  person_id INT UNSIGNED NOT NULL,
  name VARCHAR(100) NOT NULL,
  secret_sha256 BINARY(32) NOT NULL,
  created_at DATETIME(6) NOT NULL,
  revoked_at DATETIME(6) NULL,
  UNIQUE KEY token_secret (secret_sha256),
  CONSTRAINT token_of_person FOREIGN KEY (person_id) REFERENCES person (person_id)
) ENGINE=InnoDB;

CREATE TABLE session (
  secret_sha256 BINARY(32) NOT NULL PRIMARY KEY,
  person_id INT UNSIGNED NOT NULL,
  csrf_token VARCHAR(64) NOT NULL,
  expires_at DATETIME(6) NOT NULL,
  KEY session_expiry (expires_at),
  CONSTRAINT session_of_person FOREIGN KEY (person_id) REFERENCES person (person_id)
) ENGINE=InnoDB;

CREATE TABLE project (
  project_id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(100) NOT NULL,
  description TEXT NOT NULL,
  created_by INT UNSIGNED NOT NULL,
  created_at DATETIME(6) NOT NULL,
  UNIQUE KEY project_name (name),
  CONSTRAINT project_author FOREIGN KEY (created_by) REFERENCES person (person_id)
) ENGINE=InnoDB;

CREATE TABLE member (
  project_id INT UNSIGNED NOT NULL,
  person_id INT UNSIGNED NOT NULL,
  role VARCHAR(20) NOT NULL,
  PRIMARY KEY (project_id, person_id),
  KEY member_person (person_id),
  CONSTRAINT member_project FOREIGN KEY (project_id) REFERENCES project (project_id),
  CONSTRAINT member_is_person FOREIGN KEY (person_id) REFERENCES person (person_id)
) ENGINE=InnoDB;

CREATE TABLE experiment (
  experiment_id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  project_id INT UNSIGNED NOT NULL,
  name VARCHAR(100) NOT NULL,
  description TEXT NOT NULL,
  last_number INT UNSIGNED NOT NULL,
  created_by INT UNSIGNED NOT NULL,
  created_at DATETIME(6) NOT NULL,
  UNIQUE KEY experiment_name (project_id, name),
  CONSTRAINT experiment_project FOREIGN KEY (project_id) REFERENCES project (project_id)
) ENGINE=InnoDB;

CREATE TABLE goal (
  experiment_id INT UNSIGNED NOT NULL,
  name VARCHAR(250) NOT NULL,
  position SMALLINT UNSIGNED NOT NULL,
  direction VARCHAR(10) NOT NULL,
  unit VARCHAR(20) NULL,
  bound DOUBLE NULL,
  aggregate VARCHAR(10) NOT NULL,
  PRIMARY KEY (experiment_id, name),
  CONSTRAINT goal_experiment FOREIGN KEY (experiment_id) REFERENCES experiment (experiment_id)
) ENGINE=InnoDB;

CREATE TABLE key_name (
  key_id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  project_id INT UNSIGNED NOT NULL,
  scope VARCHAR(8) NOT NULL,
  aggregate VARCHAR(8) NOT NULL,
  name VARCHAR(250) NOT NULL,
  UNIQUE KEY key_name_once (project_id, scope, aggregate, name),
  CONSTRAINT key_project FOREIGN KEY (project_id) REFERENCES project (project_id)
) ENGINE=InnoDB;

CREATE TABLE experiment_key (
  experiment_id INT UNSIGNED NOT NULL,
  key_id INT UNSIGNED NOT NULL,
  PRIMARY KEY (experiment_id, key_id)
) ENGINE=InnoDB;

CREATE TABLE run (
  run_id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  uid BINARY(16) NOT NULL,
  experiment_id INT UNSIGNED NOT NULL,
  number INT UNSIGNED NOT NULL,
  name VARCHAR(200) NULL,
  status VARCHAR(10) NOT NULL,
  reason VARCHAR(4000) NULL,
  author_id INT UNSIGNED NOT NULL,
  host VARCHAR(200) NOT NULL,
  parent_uid BINARY(16) NULL,
  started_at DATETIME(6) NOT NULL,
  ended_at DATETIME(6) NULL,
  last_sign_at DATETIME(6) NOT NULL,
  lease_s INT UNSIGNED NOT NULL,
  changed_at DATETIME(6) NOT NULL,
  UNIQUE KEY run_uid (uid),
  UNIQUE KEY run_number (experiment_id, number),
  KEY run_started (experiment_id, started_at),
  KEY run_status (status, last_sign_at),
  KEY run_changed (changed_at),
  CONSTRAINT run_experiment FOREIGN KEY (experiment_id) REFERENCES experiment (experiment_id),
  CONSTRAINT run_author FOREIGN KEY (author_id) REFERENCES person (person_id)
) ENGINE=InnoDB;

CREATE TABLE run_doc (
  run_id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  doc MEDIUMBLOB NOT NULL
) ENGINE=InnoDB;

CREATE TABLE result_record (
  run_id BIGINT UNSIGNED NOT NULL,
  uid BINARY(16) NOT NULL,
  name VARCHAR(250) NOT NULL,
  value MEDIUMTEXT NOT NULL,
  recorded_at DATETIME(6) NOT NULL,
  PRIMARY KEY (run_id, uid)
) ENGINE=InnoDB;

CREATE TABLE value_num (
  key_id INT UNSIGNED NOT NULL,
  experiment_id INT UNSIGNED NOT NULL,
  run_id BIGINT UNSIGNED NOT NULL,
  num DOUBLE NOT NULL,
  PRIMARY KEY (key_id, experiment_id, run_id),
  KEY value_num_order (key_id, experiment_id, num)
) ENGINE=InnoDB;

CREATE TABLE value_text (
  key_id INT UNSIGNED NOT NULL,
  experiment_id INT UNSIGNED NOT NULL,
  run_id BIGINT UNSIGNED NOT NULL,
  text VARCHAR(120) NOT NULL,
  PRIMARY KEY (key_id, experiment_id, run_id),
  KEY value_text_order (key_id, experiment_id, text)
) ENGINE=InnoDB;

CREATE TABLE run_ingest (
  run_id BIGINT UNSIGNED NOT NULL PRIMARY KEY
) ENGINE=InnoDB;

CREATE TABLE point_tail (
  run_id BIGINT UNSIGNED NOT NULL,
  batch_uid BINARY(16) NOT NULL,
  seq BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
  n INT UNSIGNED NOT NULL,
  payload MEDIUMBLOB NOT NULL,
  PRIMARY KEY (run_id, seq),
  UNIQUE KEY point_tail_seq (seq),
  UNIQUE KEY point_tail_batch (run_id, batch_uid)
) ENGINE=InnoDB;

CREATE TABLE series (
  series_id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  run_id BIGINT UNSIGNED NOT NULL,
  name VARCHAR(250) NOT NULL,
  UNIQUE KEY series_name (run_id, name)
) ENGINE=InnoDB;

CREATE TABLE point_chunk (
  series_id BIGINT UNSIGNED NOT NULL,
  first_step BIGINT NOT NULL,
  first_time BIGINT NOT NULL,
  chunk_id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
  last_step BIGINT NOT NULL,
  last_time BIGINT NOT NULL,
  n INT UNSIGNED NOT NULL,
  stats VARBINARY(100) NOT NULL,
  data MEDIUMBLOB NOT NULL,
  PRIMARY KEY (series_id, first_step, first_time, chunk_id),
  UNIQUE KEY point_chunk_id (chunk_id)
) ENGINE=InnoDB;

CREATE TABLE point_rollup (
  series_id BIGINT UNSIGNED NOT NULL,
  first_step BIGINT NOT NULL,
  mini BLOB NOT NULL,
  PRIMARY KEY (series_id, first_step)
) ENGINE=InnoDB;

CREATE TABLE thing_name (
  project_id INT UNSIGNED NOT NULL,
  name VARCHAR(100) NOT NULL,
  thing VARCHAR(10) NOT NULL,
  PRIMARY KEY (project_id, name)
) ENGINE=InnoDB;

CREATE TABLE artifact (
  artifact_id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  project_id INT UNSIGNED NOT NULL,
  name VARCHAR(100) NOT NULL,
  kind VARCHAR(40) NOT NULL,
  created_by INT UNSIGNED NOT NULL,
  created_at DATETIME(6) NOT NULL,
  UNIQUE KEY artifact_name (project_id, name),
  CONSTRAINT artifact_project FOREIGN KEY (project_id) REFERENCES project (project_id)
) ENGINE=InnoDB;

CREATE TABLE blob_file (
  sha256 BINARY(32) NOT NULL PRIMARY KEY,
  size_bytes BIGINT UNSIGNED NOT NULL,
  damaged BOOL NOT NULL,
  created_at DATETIME(6) NOT NULL
) ENGINE=InnoDB;

CREATE TABLE blob_in_project (
  project_id INT UNSIGNED NOT NULL,
  sha256 BINARY(32) NOT NULL,
  PRIMARY KEY (project_id, sha256)
) ENGINE=InnoDB;

CREATE TABLE manifest (
  digest BINARY(32) NOT NULL PRIMARY KEY,
  file_count INT UNSIGNED NOT NULL,
  size_bytes BIGINT UNSIGNED NOT NULL,
  doc LONGBLOB NOT NULL
) ENGINE=InnoDB;

CREATE TABLE manifest_blob (
  digest BINARY(32) NOT NULL,
  sha256 BINARY(32) NOT NULL,
  PRIMARY KEY (digest, sha256),
  KEY manifest_of_blob (sha256)
) ENGINE=InnoDB;

CREATE TABLE artifact_version (
  version_id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  artifact_id INT UNSIGNED NOT NULL,
  number INT UNSIGNED NOT NULL,
  digest BINARY(32) NOT NULL,
  by_reference BOOL NOT NULL,
  address VARCHAR(1000) NULL,
  created_by INT UNSIGNED NOT NULL,
  created_at DATETIME(6) NOT NULL,
  UNIQUE KEY artifact_version_number (artifact_id, number),
  KEY artifact_version_digest (digest),
  CONSTRAINT version_of_artifact FOREIGN KEY (artifact_id) REFERENCES artifact (artifact_id)
) ENGINE=InnoDB;

CREATE TABLE run_artifact (
  run_id BIGINT UNSIGNED NOT NULL,
  uid BINARY(16) NOT NULL,
  version_id BIGINT UNSIGNED NOT NULL,
  relation VARCHAR(10) NOT NULL,
  role VARCHAR(100) NULL,
  step BIGINT NULL,
  recorded_at DATETIME(6) NOT NULL,
  PRIMARY KEY (run_id, uid),
  KEY run_artifact_version (version_id),
  CONSTRAINT link_version FOREIGN KEY (version_id) REFERENCES artifact_version (version_id)
) ENGINE=InnoDB;

CREATE TABLE model (
  model_id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  project_id INT UNSIGNED NOT NULL,
  name VARCHAR(100) NOT NULL,
  purpose TEXT NOT NULL,
  approvals_needed SMALLINT UNSIGNED NOT NULL,
  second_pair BOOL NOT NULL,
  last_number INT UNSIGNED NOT NULL,
  lead_number INT UNSIGNED NULL,
  created_by INT UNSIGNED NOT NULL,
  created_at DATETIME(6) NOT NULL,
  UNIQUE KEY model_name (project_id, name),
  CONSTRAINT model_project FOREIGN KEY (project_id) REFERENCES project (project_id)
) ENGINE=InnoDB;

CREATE TABLE stage (
  model_id INT UNSIGNED NOT NULL,
  position SMALLINT UNSIGNED NOT NULL,
  name VARCHAR(100) NOT NULL,
  asks_approved BOOL NOT NULL,
  least_role VARCHAR(20) NOT NULL,
  PRIMARY KEY (model_id, position),
  UNIQUE KEY stage_name (model_id, name),
  CONSTRAINT stage_of_model FOREIGN KEY (model_id) REFERENCES model (model_id)
) ENGINE=InnoDB;

CREATE TABLE model_version (
  model_id INT UNSIGNED NOT NULL,
  number INT UNSIGNED NOT NULL,
  uid BINARY(16) NOT NULL,
  version_id BIGINT UNSIGNED NOT NULL,
  run_id BIGINT UNSIGNED NULL,
  origin VARCHAR(2000) NULL,
  comment TEXT NOT NULL,
  retired BOOL NOT NULL,
  created_by INT UNSIGNED NOT NULL,
  created_at DATETIME(6) NOT NULL,
  PRIMARY KEY (model_id, number),
  UNIQUE KEY model_version_uid (uid),
  KEY model_version_run (run_id),
  CONSTRAINT version_of_model FOREIGN KEY (model_id) REFERENCES model (model_id),
  CONSTRAINT version_content FOREIGN KEY (version_id) REFERENCES artifact_version (version_id)
) ENGINE=InnoDB;

CREATE TABLE verdict (
  model_id INT UNSIGNED NOT NULL,
  number INT UNSIGNED NOT NULL,
  person_id INT UNSIGNED NOT NULL,
  approves BOOL NOT NULL,
  comment TEXT NOT NULL,
  given_at DATETIME(6) NOT NULL,
  PRIMARY KEY (model_id, number, person_id),
  CONSTRAINT verdict_by FOREIGN KEY (person_id) REFERENCES person (person_id)
) ENGINE=InnoDB;

CREATE TABLE stage_stay (
  model_id INT UNSIGNED NOT NULL,
  stage VARCHAR(100) NOT NULL,
  depth INT UNSIGNED NOT NULL,
  number INT UNSIGNED NOT NULL,
  placed_by INT UNSIGNED NOT NULL,
  placed_at DATETIME(6) NOT NULL,
  PRIMARY KEY (model_id, stage, depth),
  CONSTRAINT stay_of_model FOREIGN KEY (model_id) REFERENCES model (model_id)
) ENGINE=InnoDB;

CREATE TABLE stage_event (
  model_id INT UNSIGNED NOT NULL,
  event_id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
  uid BINARY(16) NOT NULL,
  act VARCHAR(10) NOT NULL,
  stage VARCHAR(100) NOT NULL,
  before_number INT UNSIGNED NULL,
  after_number INT UNSIGNED NULL,
  person_id INT UNSIGNED NOT NULL,
  comment TEXT NOT NULL,
  at DATETIME(6) NOT NULL,
  PRIMARY KEY (model_id, event_id),
  UNIQUE KEY stage_event_id (event_id),
  UNIQUE KEY stage_event_uid (uid),
  CONSTRAINT event_of_model FOREIGN KEY (model_id) REFERENCES model (model_id)
) ENGINE=InnoDB;

CREATE TABLE journal (
  entry_id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  project_id INT UNSIGNED NULL,
  person_id INT UNSIGNED NULL,
  at DATETIME(6) NOT NULL,
  act VARCHAR(40) NOT NULL,
  subject VARCHAR(400) NOT NULL,
  state_before TEXT NULL,
  state_after TEXT NULL,
  comment TEXT NOT NULL,
  origin VARCHAR(200) NOT NULL,
  KEY journal_subject (project_id, subject(100), entry_id),
  KEY journal_project (project_id, entry_id),
  KEY journal_at (at)
) ENGINE=InnoDB;
