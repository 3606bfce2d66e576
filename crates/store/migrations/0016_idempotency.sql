-- Requests that were made with an Idempotency-Key, and how they were answered: one that comes again within a day is not
-- carried out again. Answers may hold a secret that is shown once, so they are sealed.
CREATE TABLE IF NOT EXISTS idempotency (
    person_id INT UNSIGNED NOT NULL,
    key_hash BINARY(32) NOT NULL,
    request_hash BINARY(32) NOT NULL,
    begun_at DATETIME(6) NOT NULL,
    answer_sealed MEDIUMBLOB NULL,
    PRIMARY KEY (person_id, key_hash),
    KEY (begun_at)
);
