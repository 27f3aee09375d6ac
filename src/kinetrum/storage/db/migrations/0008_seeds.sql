ALTER TABLE experiment ADD COLUMN seeds TEXT NOT NULL DEFAULT '["seed"]';
