-- What a gateway is, and how it may call.
ALTER TABLE gateways
    ADD COLUMN description VARCHAR(500) NOT NULL DEFAULT '' AFTER name,
    -- Runs of channels; what a concentrator usually has if there is none.
    ADD COLUMN channels VARCHAR(300) CHARACTER SET ascii NULL AFTER region,
    ADD COLUMN protocol VARCHAR(8) CHARACTER SET ascii NOT NULL DEFAULT 'udp' AFTER channels,
    ADD COLUMN udp_source VARCHAR(50) CHARACTER SET ascii NULL AFTER protocol,
    ADD COLUMN cable_loss_db FLOAT NOT NULL DEFAULT 0 AFTER antenna_gain_dbi,
    ADD COLUMN open_to_others BOOLEAN NOT NULL DEFAULT FALSE AFTER beacons;

-- What gateways prove themselves by: SHA-256 of a token, or of a certificate. The secrets are nowhere here.
CREATE TABLE gateway_credentials (
    id CHAR(26) CHARACTER SET ascii NOT NULL PRIMARY KEY,
    eui BINARY(8) NOT NULL,
    purpose ENUM('traffic', 'updates') NOT NULL,
    kind ENUM('token', 'certificate') NOT NULL,
    secret_hash BINARY(32) NOT NULL UNIQUE,
    -- CRC-32 of the whole segment, by which a gateway says over CUPS what it has.
    segment_crc INT UNSIGNED NOT NULL,
    added_at DATETIME(6) NOT NULL,
    expires_at DATETIME(6) NOT NULL,
    last_used DATETIME(6) NULL,
    revoked_at DATETIME(6) NULL,
    -- Somebody wants the gateway to fetch another one over CUPS.
    replace_asked BOOLEAN NOT NULL DEFAULT FALSE,
    KEY (eui),
    FOREIGN KEY (eui) REFERENCES gateways (eui) ON DELETE CASCADE
);

-- What happened to gateways: connects, refusals, changes. Written in groups, so without a foreign key, whose locks would
-- meet those of other groups.
CREATE TABLE gateway_events (
    id CHAR(26) CHARACTER SET ascii NOT NULL PRIMARY KEY,
    eui BINARY(8) NOT NULL,
    at DATETIME(6) NOT NULL,
    body JSON NOT NULL,
    KEY (eui, id),
    KEY (at)
);

-- Firmware that gateways fetch over CUPS; the bytes are in files of the service's data folder.
CREATE TABLE gateway_firmware (
    id CHAR(26) CHARACTER SET ascii NOT NULL PRIMARY KEY,
    estate_id INT UNSIGNED NOT NULL,
    name VARCHAR(80) NOT NULL,
    key_crc INT UNSIGNED NOT NULL,
    signature VARBINARY(128) NOT NULL,
    size_bytes BIGINT UNSIGNED NOT NULL,
    sha256 BINARY(32) NOT NULL,
    added_at DATETIME(6) NOT NULL,
    KEY (estate_id, id),
    FOREIGN KEY (estate_id) REFERENCES estates (id)
);

-- What a gateway is to be handed when it next asks.
ALTER TABLE gateways
    ADD COLUMN firmware_id CHAR(26) CHARACTER SET ascii NULL,
    ADD FOREIGN KEY (firmware_id) REFERENCES gateway_firmware (id) ON DELETE SET NULL;
