-- People: who left is kept with what they did; who signs in elsewhere has a subject there; machines are no people.
ALTER TABLE person
  ADD COLUMN deactivated_at DATETIME(6) NULL,
  ADD COLUMN subject VARCHAR(300) NULL,
  ADD COLUMN mail VARCHAR(200) NOT NULL DEFAULT '',
  ADD COLUMN time_zone VARCHAR(60) NOT NULL DEFAULT '',
  ADD COLUMN theme VARCHAR(10) NOT NULL DEFAULT '',
  ADD COLUMN machine_of INT UNSIGNED NULL,
  ADD UNIQUE KEY person_subject (subject),
  ADD KEY person_machine (machine_of),
  ADD CONSTRAINT person_machine_of FOREIGN KEY (machine_of) REFERENCES project (project_id);

-- Tokens from before this have every scope, in every project, and do not end.
ALTER TABLE token
  ADD COLUMN scopes TEXT NULL,
  ADD COLUMN projects TEXT NULL,
  ADD COLUMN expires_at DATETIME(6) NULL,
  ADD COLUMN last_used_at DATETIME(6) NULL,
  ADD COLUMN last_used_from VARCHAR(200) NOT NULL DEFAULT '',
  ADD COLUMN made_by INT UNSIGNED NULL,
  ADD KEY token_person (person_id, name);

ALTER TABLE session
  ADD COLUMN session_id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
  ADD COLUMN opened_at DATETIME(6) NULL,
  ADD COLUMN seen_at DATETIME(6) NULL,
  ADD COLUMN origin VARCHAR(200) NOT NULL DEFAULT '',
  ADD UNIQUE KEY session_number (session_id),
  ADD KEY session_person (person_id);

-- Links that open once: an invitation, or a new password.
CREATE TABLE account_link (
  link_id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  secret_sha256 BINARY(32) NOT NULL,
  person_id INT UNSIGNED NOT NULL,
  purpose VARCHAR(20) NOT NULL,
  made_by INT UNSIGNED NOT NULL,
  made_at DATETIME(6) NOT NULL,
  expires_at DATETIME(6) NOT NULL,
  used_at DATETIME(6) NULL,
  UNIQUE KEY account_link_secret (secret_sha256),
  KEY account_link_person (person_id),
  CONSTRAINT account_link_of FOREIGN KEY (person_id) REFERENCES person (person_id)
) ENGINE=InnoDB;

-- Wrong passwords, by the digest of a name or of an address.
CREATE TABLE sign_in_failure (
  of_sha256 BINARY(32) NOT NULL PRIMARY KEY,
  failures INT UNSIGNED NOT NULL,
  last_at DATETIME(6) NOT NULL,
  KEY sign_in_failure_at (last_at)
) ENGINE=InnoDB;

-- Projects: open ones are seen by everybody with an account; archived ones are only read.
ALTER TABLE project
  ADD COLUMN is_open BOOL NOT NULL DEFAULT FALSE,
  ADD COLUMN archived_at DATETIME(6) NULL,
  ADD COLUMN deleted_at DATETIME(6) NULL;

CREATE TABLE earlier_project_name (
  name VARCHAR(100) NOT NULL PRIMARY KEY,
  project_id INT UNSIGNED NOT NULL,
  since DATETIME(6) NOT NULL,
  KEY earlier_project (project_id),
  CONSTRAINT earlier_project_of FOREIGN KEY (project_id) REFERENCES project (project_id)
) ENGINE=InnoDB;

-- Groups, as whoever signs people in names them, or as an administrator does.
CREATE TABLE person_group (
  person_id INT UNSIGNED NOT NULL,
  name VARCHAR(100) NOT NULL,
  PRIMARY KEY (person_id, name),
  KEY person_group_name (name),
  CONSTRAINT person_group_of FOREIGN KEY (person_id) REFERENCES person (person_id)
) ENGINE=InnoDB;

CREATE TABLE group_role (
  project_id INT UNSIGNED NOT NULL,
  name VARCHAR(100) NOT NULL,
  role VARCHAR(20) NOT NULL,
  PRIMARY KEY (project_id, name),
  KEY group_role_name (name),
  CONSTRAINT group_role_project FOREIGN KEY (project_id) REFERENCES project (project_id)
) ENGINE=InnoDB;

-- By which token an act was done; and the chain of digests over the entries.
ALTER TABLE journal ADD COLUMN token VARCHAR(100) NOT NULL DEFAULT '';

CREATE TABLE journal_digest (
  position BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  entry_id BIGINT UNSIGNED NOT NULL,
  digest BINARY(32) NOT NULL,
  UNIQUE KEY journal_digest_entry (entry_id)
) ENGINE=InnoDB;
