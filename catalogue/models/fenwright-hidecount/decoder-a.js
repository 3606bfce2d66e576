// Hide counter, hardware A: it cannot tell coming from going, and sends visitors and battery only.
function decodeUplink({ bytes }) {
  if (bytes.length !== 3) return { errors: [`3 bytes expected, ${bytes.length} received`] };
  return { data: { visitors: (bytes[0] << 8) | bytes[1], battery: bytes[2] } };
}
