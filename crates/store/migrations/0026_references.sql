-- What a downlink's sender calls it.
ALTER TABLE outbox ADD COLUMN IF NOT EXISTS reference VARCHAR(64) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NULL;
ALTER TABLE outbox ADD INDEX IF NOT EXISTS reference (dev_eui, reference);
