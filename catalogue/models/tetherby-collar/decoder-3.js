// Grazing collar with firmware 3: as before, and the age of the position in minutes; 255 without a position.
function decodeUplink({ bytes }) {
  if (bytes.length !== 11) return { errors: [`11 bytes expected, ${bytes.length} received`] };
  const i32 = (at) => (bytes[at] << 24) | (bytes[at + 1] << 16) | (bytes[at + 2] << 8) | bytes[at + 3];
  const data = { activity: bytes[8], battery: bytes[9] / 50 };
  if (bytes[10] === 255) return { data, warnings: ["no position yet"] };
  return { data: { ...data, position: { latitude: i32(0) / 1e5, longitude: i32(4) / 1e5 }, position_age: bytes[10] } };
}
