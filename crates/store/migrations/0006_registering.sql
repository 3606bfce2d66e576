-- Radio profiles that many devices stand on, and what else is to be known of a device.

CREATE TABLE radio_profiles (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    estate_id INT UNSIGNED NOT NULL,
    slug VARCHAR(60) CHARACTER SET ascii NOT NULL,
    name VARCHAR(80) NOT NULL,
    region VARCHAR(12) CHARACTER SET ascii NOT NULL,
    radio JSON NOT NULL,
    changed_at DATETIME(6) NOT NULL,
    UNIQUE KEY (estate_id, slug),
    FOREIGN KEY (estate_id) REFERENCES estates (id)
);

ALTER TABLE devices
    ADD COLUMN profile_id INT UNSIGNED NULL AFTER model_id,
    ADD COLUMN description VARCHAR(500) NOT NULL DEFAULT '' AFTER name,
    ADD COLUMN hardware VARCHAR(40) NULL AFTER description,
    ADD COLUMN firmware VARCHAR(40) NULL AFTER hardware,
    -- Kept from being served: its frames are refused, and nothing is sent to it.
    ADD COLUMN disabled BOOLEAN NOT NULL DEFAULT FALSE,
    ADD FOREIGN KEY (profile_id) REFERENCES radio_profiles (id),
    ADD KEY (estate_id, dev_eui);

CREATE TABLE device_tags (
    dev_eui BINARY(8) NOT NULL,
    tag VARCHAR(60) CHARACTER SET ascii NOT NULL,
    PRIMARY KEY (dev_eui, tag),
    KEY (tag),
    FOREIGN KEY (dev_eui) REFERENCES devices (dev_eui) ON DELETE CASCADE
);

-- What a make of device is like, whichever profile it stands on.
ALTER TABLE models ADD COLUMN radio JSON NOT NULL DEFAULT '{}' AFTER units;

-- An AppKey that devices of a fleet ship with alike, sealed.
ALTER TABLE fleets ADD COLUMN default_app_key_sealed VARBINARY(80) NULL AFTER name;
