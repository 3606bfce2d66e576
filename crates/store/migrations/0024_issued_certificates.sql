-- Certificates of gateways that have not expired. One whose credential is revoked or gone is refused by the broker, too.
CREATE TABLE IF NOT EXISTS issued_certificates (
    serial VARBINARY(20) NOT NULL PRIMARY KEY,
    name VARCHAR(64) CHARACTER SET ascii NOT NULL,
    credential CHAR(26) CHARACTER SET ascii NOT NULL,
    expires_at DATETIME(6) NOT NULL,
    KEY (name),
    KEY (credential),
    KEY (expires_at)
);
