-- Up to which run an experiment's replicates are marked after its seeds changed; NULL: all of them.
ALTER TABLE experiment ADD COLUMN marked_to BIGINT UNSIGNED NULL;
