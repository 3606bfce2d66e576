-- Estates that have been removed, until their messages are gone as well.
CREATE TABLE IF NOT EXISTS removed_estates (
    estate_id INT UNSIGNED NOT NULL PRIMARY KEY,
    removed_at DATETIME(6) NOT NULL
);
