// Weather mast: wind and gust in 0.1 m/s, direction in degrees, temperature in 0.1 °C (signed), humidity in percent, pressure in
// 0.1 hPa, rain in 0.1 mm since midnight.
function decodeUplink({ bytes }) {
  if (bytes.length !== 13) return { errors: [`13 bytes expected, ${bytes.length} received`] };
  const u16 = (at) => (bytes[at] << 8) | bytes[at + 1];
  const i16 = (at) => (u16(at) << 16) >> 16;
  return {
    data: {
      wind: { speed: u16(0) / 10, gust: u16(2) / 10, direction: u16(4) },
      temperature: i16(6) / 10,
      humidity: bytes[8],
      pressure: u16(9) / 10,
      rain: u16(11) / 10,
    },
  };
}
