-- Who may do what: accounts, sharing, invitations, access tokens, and what was done.

ALTER TABLE people
    -- Looks after the installation: founds estates, sees how the service is doing.
    ADD COLUMN keeps_installation BOOLEAN NOT NULL DEFAULT FALSE,
    -- The password was made up by the service and printed.
    ADD COLUMN given_password BOOLEAN NOT NULL DEFAULT FALSE,
    -- The secret that codes of two-step sign-in are made from, sealed; not asked for until a first code has come.
    ADD COLUMN otp_sealed VARBINARY(80) NULL,
    ADD COLUMN otp_in_use BOOLEAN NOT NULL DEFAULT FALSE,
    -- The last interval whose code was used: none works twice.
    ADD COLUMN otp_last_step BIGINT UNSIGNED NULL;
UPDATE people SET keeps_installation = TRUE ORDER BY id LIMIT 1;

CREATE TABLE recovery_codes (
    person_id INT UNSIGNED NOT NULL,
    code_hash BINARY(32) NOT NULL,
    PRIMARY KEY (person_id, code_hash),
    FOREIGN KEY (person_id) REFERENCES people (id) ON DELETE CASCADE
) CHARACTER SET utf8mb4;

ALTER TABLE memberships
    ADD COLUMN added_at DATETIME(6) NULL,
    ADD COLUMN added_by VARCHAR(80) NULL;

ALTER TABLE sign_ins
    ADD COLUMN id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT UNIQUE,
    ADD COLUMN last_used DATETIME(6) NULL,
    ADD COLUMN address VARCHAR(45) CHARACTER SET ascii NOT NULL DEFAULT '',
    ADD COLUMN program VARCHAR(120) NOT NULL DEFAULT '';

-- From where an account has been signed in to: whoever guesses its password elsewhere does not lock these out.
CREATE TABLE known_sources (
    person_id INT UNSIGNED NOT NULL,
    address VARCHAR(45) CHARACTER SET ascii NOT NULL,
    last_used DATETIME(6) NOT NULL,
    PRIMARY KEY (person_id, address),
    FOREIGN KEY (person_id) REFERENCES people (id) ON DELETE CASCADE
) CHARACTER SET utf8mb4;

-- A fleet or a device, shared with somebody who is no member.
CREATE TABLE shares (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    estate_id INT UNSIGNED NOT NULL,
    person_id INT UNSIGNED NOT NULL,
    fleet_id INT UNSIGNED NULL,
    dev_eui BINARY(8) NULL,
    may VARCHAR(12) CHARACTER SET ascii NOT NULL,
    until DATETIME(6) NULL,
    added_at DATETIME(6) NOT NULL,
    added_by VARCHAR(80) NOT NULL,
    KEY (person_id, estate_id),
    FOREIGN KEY (estate_id) REFERENCES estates (id),
    FOREIGN KEY (person_id) REFERENCES people (id) ON DELETE CASCADE,
    FOREIGN KEY (fleet_id) REFERENCES fleets (id) ON DELETE CASCADE,
    FOREIGN KEY (dev_eui) REFERENCES devices (dev_eui) ON DELETE CASCADE
) CHARACTER SET utf8mb4;

-- Each can be taken once; the code itself is not stored, only its SHA-256.
CREATE TABLE invitations (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    code_hash BINARY(32) NOT NULL UNIQUE,
    estate_id INT UNSIGNED NOT NULL,
    for_whom VARCHAR(80) NOT NULL,
    role VARCHAR(20) CHARACTER SET ascii NULL,
    fleet_id INT UNSIGNED NULL,
    dev_eui BINARY(8) NULL,
    may VARCHAR(12) CHARACTER SET ascii NULL,
    until DATETIME(6) NULL,
    added_at DATETIME(6) NOT NULL,
    added_by VARCHAR(80) NOT NULL,
    expires_at DATETIME(6) NOT NULL,
    KEY (expires_at),
    FOREIGN KEY (estate_id) REFERENCES estates (id),
    FOREIGN KEY (fleet_id) REFERENCES fleets (id) ON DELETE CASCADE,
    FOREIGN KEY (dev_eui) REFERENCES devices (dev_eui) ON DELETE CASCADE
) CHARACTER SET utf8mb4;

-- Rights are names with commas between. The secret itself is not stored, only its SHA-256.
CREATE TABLE access_tokens (
    id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    secret_hash BINARY(32) NOT NULL UNIQUE,
    estate_id INT UNSIGNED NOT NULL,
    person_id INT UNSIGNED NOT NULL,
    name VARCHAR(80) NOT NULL,
    rights VARCHAR(120) CHARACTER SET ascii NOT NULL,
    fleet_id INT UNSIGNED NULL,
    dev_eui BINARY(8) NULL,
    added_at DATETIME(6) NOT NULL,
    expires_at DATETIME(6) NULL,
    last_used DATETIME(6) NULL,
    last_from VARCHAR(45) CHARACTER SET ascii NULL,
    KEY (estate_id, person_id),
    FOREIGN KEY (estate_id) REFERENCES estates (id),
    FOREIGN KEY (person_id) REFERENCES people (id) ON DELETE CASCADE,
    FOREIGN KEY (fleet_id) REFERENCES fleets (id) ON DELETE CASCADE,
    FOREIGN KEY (dev_eui) REFERENCES devices (dev_eui) ON DELETE CASCADE
) CHARACTER SET utf8mb4;

-- What was done, by whom. Rows are only ever added; what has been kept long enough goes by whole months. Without an
-- estate it concerns the installation.
CREATE TABLE audit (
    id CHAR(26) CHARACTER SET ascii NOT NULL,
    at_ms BIGINT NOT NULL,
    estate_id INT UNSIGNED NULL,
    kind VARCHAR(8) CHARACTER SET ascii NOT NULL,
    who VARCHAR(80) NOT NULL,
    token VARCHAR(80) NULL,
    address VARCHAR(45) CHARACTER SET ascii NOT NULL,
    action VARCHAR(60) CHARACTER SET ascii NOT NULL,
    object VARCHAR(200) NOT NULL,
    status SMALLINT UNSIGNED NOT NULL,
    note VARCHAR(500) NULL,
    differences LONGTEXT NULL,
    PRIMARY KEY (id, at_ms),
    KEY (estate_id, id)
) CHARACTER SET utf8mb4 PARTITION BY RANGE (at_ms) (PARTITION later VALUES LESS THAN MAXVALUE);
