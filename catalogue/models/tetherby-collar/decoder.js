// Grazing collar: position in 1e-5 degrees (two signed 32-bit numbers), steps a minute, battery in 20 mV.
function decodeUplink({ bytes }) {
  if (bytes.length !== 10) return { errors: [`10 bytes expected, ${bytes.length} received`] };
  const i32 = (at) => (bytes[at] << 24) | (bytes[at + 1] << 16) | (bytes[at + 2] << 8) | bytes[at + 3];
  return {
    data: {
      position: { latitude: i32(0) / 1e5, longitude: i32(4) / 1e5 },
      activity: bytes[8],
      battery: bytes[9] / 50,
    },
  };
}
