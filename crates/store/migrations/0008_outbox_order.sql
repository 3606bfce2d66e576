-- What waits in an outbox can be put in another order; and a model's encoder is tried on commands of its own.

ALTER TABLE outbox ADD COLUMN place BIGINT NOT NULL DEFAULT 0 AFTER dev_eui;

ALTER TABLE models ADD COLUMN commands LONGTEXT NOT NULL DEFAULT '[]' AFTER tests;
