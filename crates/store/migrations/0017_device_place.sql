-- Where a device is, and what else is known of it.
ALTER TABLE devices
    ADD COLUMN latitude_deg DOUBLE NULL,
    ADD COLUMN longitude_deg DOUBLE NULL,
    ADD COLUMN height_m DOUBLE NULL,
    ADD COLUMN indoor BOOLEAN NULL,
    ADD COLUMN attributes TEXT CHARACTER SET utf8mb4 NOT NULL DEFAULT '{}';
