-- Decoders are scripts, field tables, the low-power format or text.

ALTER TABLE models ADD COLUMN decoder_kind VARCHAR(12) CHARACTER SET ascii NOT NULL DEFAULT 'script' AFTER decoder;
