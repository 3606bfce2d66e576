-- Models come from catalogues: what was imported is kept beside what it became here, so that edits show and stay.

ALTER TABLE models
    ADD COLUMN description VARCHAR(500) NOT NULL DEFAULT '' AFTER name,
    ADD COLUMN profile_id CHAR(8) CHARACTER SET ascii NULL AFTER description,
    ADD COLUMN tests LONGTEXT NOT NULL DEFAULT '[]' AFTER decoder,
    ADD COLUMN versions LONGTEXT NOT NULL DEFAULT '[]' AFTER tests,
    -- Why its decoder is not used.
    ADD COLUMN flaw TEXT NULL AFTER versions,
    ADD COLUMN source VARCHAR(300) NULL,
    -- The model as its catalogue had it.
    ADD COLUMN imported LONGTEXT NULL;

CREATE TABLE catalogue_sources (
    estate_id INT UNSIGNED NOT NULL,
    source VARCHAR(300) NOT NULL,
    kind VARCHAR(10) CHARACTER SET ascii NOT NULL,
    branch VARCHAR(200) NULL,
    revision VARCHAR(64) CHARACTER SET ascii NULL,
    refreshed_at DATETIME(6) NOT NULL,
    PRIMARY KEY (estate_id, source),
    FOREIGN KEY (estate_id) REFERENCES estates (id)
);
