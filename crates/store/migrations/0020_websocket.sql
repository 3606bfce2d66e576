-- Gateways' protocols by the names that people use.
ALTER TABLE gateways MODIFY COLUMN protocol VARCHAR(12) CHARACTER SET ascii NOT NULL DEFAULT 'udp';
UPDATE gateways SET protocol = 'websocket' WHERE protocol = 'lns';
