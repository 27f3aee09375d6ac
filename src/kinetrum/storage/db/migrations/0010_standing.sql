-- How many approvals a stage took when a version was placed on it; 0 where it asked for none.
ALTER TABLE stage_stay ADD COLUMN approvals_asked INT UNSIGNED NOT NULL DEFAULT 1;

-- What stands there was placed under rules that are not known any more: as many approvals as it has were enough.
UPDATE stage_stay y JOIN model m USING (model_id) LEFT JOIN stage s ON s.model_id = y.model_id AND s.name = y.stage
  SET y.approvals_asked = IF(COALESCE(s.asks_approved, TRUE), GREATEST(1, LEAST(m.approvals_needed, (SELECT COUNT(*)
    FROM verdict v WHERE v.model_id = y.model_id AND v.number = y.number AND v.approves))), 0);

-- Whether approvals older than the newest evidence have to be given again; the approvals that the lead version took when
-- it was chosen; who alone may add evidence, by the name of the data.
ALTER TABLE model
  ADD COLUMN renewed_approvals BOOLEAN NOT NULL DEFAULT TRUE,
  ADD COLUMN lead_approvals INT UNSIGNED NOT NULL DEFAULT 1,
  ADD COLUMN evidence_rules TEXT NOT NULL DEFAULT '{}';

UPDATE model m SET m.lead_approvals = GREATEST(1, LEAST(m.approvals_needed, (SELECT COUNT(*) FROM verdict v
  WHERE v.model_id = m.model_id AND v.number = m.lead_number AND v.approves)));

-- The step of the checkpoint that a version was made from.
ALTER TABLE model_version ADD COLUMN step BIGINT NULL;

UPDATE model_version mv SET mv.step = (SELECT MAX(x.step) FROM run_artifact x
  WHERE x.run_id = mv.run_id AND x.version_id = mv.version_id AND x.relation = 'generated');

-- What two tables of predictions came to, by everything that it depends on.
CREATE TABLE rows_judgement (
  inputs BINARY(32) NOT NULL PRIMARY KEY,
  verdicts MEDIUMTEXT NOT NULL,
  judged_at DATETIME(6) NOT NULL
) ENGINE=InnoDB;
