-- Whatever people type can be compared with: a text with an umlaut is then a name that does not exist, not an error of
-- the database. Tags may be words of any language.
ALTER TABLE estates MODIFY COLUMN slug VARCHAR(60) CHARACTER SET utf8mb4 NOT NULL;
ALTER TABLE fleets MODIFY COLUMN slug VARCHAR(60) CHARACTER SET utf8mb4 NOT NULL;
ALTER TABLE models MODIFY COLUMN slug VARCHAR(60) CHARACTER SET utf8mb4 NOT NULL;
ALTER TABLE radio_profiles MODIFY COLUMN slug VARCHAR(60) CHARACTER SET utf8mb4 NOT NULL;
ALTER TABLE device_tags MODIFY COLUMN tag VARCHAR(60) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL;

-- A device that is activated by personalization does not join, and needs no JoinEUI.
ALTER TABLE devices MODIFY COLUMN join_eui BINARY(8) NULL;
