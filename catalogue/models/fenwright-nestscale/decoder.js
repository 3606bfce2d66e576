// Nest scale: a mark (0a), weight in g and temperature in 0.5 °C (both signed), battery in 20 mV.
function decodeUplink({ bytes }) {
  if (bytes.length !== 5 || bytes[0] !== 0x0a) return { errors: ["5 bytes beginning with 0a are expected"] };
  const weight = (((bytes[1] << 8) | bytes[2]) << 16) >> 16;
  return { data: { weight, temperature: ((bytes[3] << 24) >> 24) / 2, battery: bytes[4] / 50 } };
}
