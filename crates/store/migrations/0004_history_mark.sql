-- The newest message whose state is in these tables as well. Large groups of messages are written beside their
-- state; what stands in the history beyond this mark has lost its state to a kill, and is told anew.
ALTER TABLE journal_mark ADD COLUMN last_message CHAR(26) CHARACTER SET ascii NULL;

-- Everything told so far counts.
INSERT IGNORE INTO journal_mark (id, processed_until_us) VALUES (1, 0);
UPDATE journal_mark SET last_message = (SELECT MAX(id) FROM messages);
