// Pump watch: current in 0.1 A, running time in 0.1 h (four bytes), starts today, alarm. Port 5 is sent at once with an alarm.
function decodeUplink({ bytes, fPort }) {
  if (fPort !== 4 && fPort !== 5) return { errors: [`port ${fPort} is not used by this model`] };
  if (bytes.length !== 9) return { errors: [`9 bytes expected, ${bytes.length} received`] };
  const u16 = (at) => (bytes[at] << 8) | bytes[at + 1];
  const u32 = (at) => u16(at) * 65536 + u16(at + 2);
  return { data: { current: u16(0) / 10, running_time: u32(2) / 10, starts: u16(6), alarm: bytes[8] === 1 } };
}
