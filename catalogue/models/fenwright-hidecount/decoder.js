// Hide counter: visitors since midnight, how many are inside, battery in percent.
function decodeUplink({ bytes }) {
  if (bytes.length !== 4) return { errors: [`4 bytes expected, ${bytes.length} received`] };
  return { data: { visitors: (bytes[0] << 8) | bytes[1], inside: bytes[2], battery: bytes[3] } };
}
