// Quay lantern: dimmed to how many percent, power in W, energy in 0.01 kWh (four bytes).
function decodeUplink({ bytes, fPort }) {
  if (fPort !== 2) return { errors: [`port ${fPort} is not used by this lantern`] };
  if (bytes.length !== 7) return { errors: [`7 bytes expected, ${bytes.length} received`] };
  const u16 = (at) => (bytes[at] << 8) | bytes[at + 1];
  return { data: { dimmed_to: bytes[0], power: u16(1), energy: (u16(3) * 65536 + u16(5)) / 100 } };
}

// A command: {"dimmed_to": 40}.
function encodeDownlink({ data }) {
  const percent = data.dimmed_to;
  if (!Number.isInteger(percent) || percent < 0 || percent > 100) return { errors: ["dimmed_to is 0 to 100, in percent"] };
  return { bytes: [percent], fPort: 2 };
}
