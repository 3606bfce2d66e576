-- What is planned by name: sites, and kinds of receiver.
CREATE TABLE IF NOT EXISTS plans (
    estate_id INT UNSIGNED NOT NULL,
    kind VARCHAR(12) CHARACTER SET ascii NOT NULL,
    name VARCHAR(80) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
    about MEDIUMTEXT CHARACTER SET utf8mb4 NOT NULL,
    PRIMARY KEY (estate_id, kind, name),
    FOREIGN KEY (estate_id) REFERENCES estates (id)
);
-- What of a gateway's radio only forecasts need.
CREATE TABLE IF NOT EXISTS gateway_radios (
    gateway_eui BINARY(8) NOT NULL PRIMARY KEY,
    radio MEDIUMTEXT CHARACTER SET utf8mb4 NOT NULL,
    FOREIGN KEY (gateway_eui) REFERENCES gateways (eui) ON DELETE CASCADE
);
-- Forecasts with what they were computed from; the losses themselves are files in the data folder.
CREATE TABLE IF NOT EXISTS forecasts (
    id CHAR(26) CHARACTER SET ascii NOT NULL PRIMARY KEY,
    estate_id INT UNSIGNED NOT NULL,
    state VARCHAR(12) CHARACTER SET ascii NOT NULL,
    about MEDIUMTEXT CHARACTER SET utf8mb4 NOT NULL,
    losses TEXT CHARACTER SET ascii NOT NULL,
    KEY (estate_id, id),
    KEY (state, id)
);
-- How a device's radio stands at its place.
ALTER TABLE devices
    ADD COLUMN IF NOT EXISTS antenna_gain_dbi DOUBLE NULL,
    ADD COLUMN IF NOT EXISTS penetration_loss_db DOUBLE NULL;
