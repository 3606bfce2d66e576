-- Columns and tables under the names that the code has for them.
ALTER TABLE activity RENAME COLUMN rhythm_s TO usual_interval_s;
RENAME TABLE IF EXISTS decoded_anew TO redecoded;
