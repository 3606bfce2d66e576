// Salinity sonde: conductivity in 0.01 mS/cm, temperature in 0.01 °C (signed), depth in cm; two bytes each, high byte first.
function decodeUplink({ bytes }) {
  if (bytes.length !== 6) return { errors: [`6 bytes expected, ${bytes.length} received`] };
  const u16 = (at) => (bytes[at] << 8) | bytes[at + 1];
  const i16 = (at) => (u16(at) << 16) >> 16;
  return { data: { conductivity: u16(0) / 100, temperature: i16(2) / 100, depth: u16(4) / 100 } };
}
