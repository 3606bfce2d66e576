-- Accounts are told apart by every character; `name_key` is the name as it is looked for, whatever its case (see domain::people).
ALTER TABLE people ADD COLUMN name_key VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NULL;
UPDATE people SET name_key = LOWER(name) WHERE name_key IS NULL;
ALTER TABLE people MODIFY name VARCHAR(80) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL;
ALTER TABLE people MODIFY name_key VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL;
ALTER TABLE people ADD UNIQUE KEY people_by_key (name_key);
-- Who wrote an invitation: it ends when they lose the right to.
ALTER TABLE invitations ADD COLUMN added_by_id INT UNSIGNED NULL;
UPDATE invitations i JOIN people p ON p.name = CAST(i.added_by AS CHAR CHARACTER SET utf8mb4) COLLATE utf8mb4_bin SET i.added_by_id = p.id WHERE i.added_by_id IS NULL;
