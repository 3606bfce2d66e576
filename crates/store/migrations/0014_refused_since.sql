-- Since when a device has been refused for the same reason, so that a row of refusals tells how long it has gone on.
ALTER TABLE activity ADD COLUMN IF NOT EXISTS refused_since DATETIME(6) NULL AFTER refused_at;
