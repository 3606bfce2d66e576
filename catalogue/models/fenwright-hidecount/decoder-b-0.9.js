// Hide counter, hardware B with firmware 0.9: as later ones, but a visitor counts once he has left as well.
function decodeUplink({ bytes }) {
  if (bytes.length !== 4) return { errors: [`4 bytes expected, ${bytes.length} received`] };
  return { data: { visitors: 2 * ((bytes[0] << 8) | bytes[1]), inside: bytes[2], battery: bytes[3] } };
}
