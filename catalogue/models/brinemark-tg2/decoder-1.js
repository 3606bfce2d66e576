// Tide gauge with firmware 1: level in cm, two bytes, high byte first; battery in 20 mV.
function decodeUplink({ bytes, fPort }) {
  if (fPort !== 1) return { errors: [`port ${fPort} is not used by firmware 1`] };
  if (bytes.length !== 3) return { errors: [`3 bytes expected, ${bytes.length} received`] };
  return { data: { water_level: ((bytes[0] << 8) | bytes[1]) / 100, battery: bytes[2] / 50 } };
}
