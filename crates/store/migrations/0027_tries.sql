-- How often and for how long an outlet has tried messages that are still to be delivered.
ALTER TABLE outlets ADD COLUMN IF NOT EXISTS tried MEDIUMTEXT CHARACTER SET ascii NOT NULL DEFAULT '[]';
