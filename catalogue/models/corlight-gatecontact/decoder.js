// Gate contact: state, openings since it was installed, battery in 20 mV.
function decodeUplink({ bytes }) {
  if (bytes.length !== 4) return { errors: [`4 bytes expected, ${bytes.length} received`] };
  const gate = ["closed", "open", "tampered with"][bytes[0]];
  if (!gate) return { errors: [`state ${bytes[0]} is not known`] };
  return { data: { gate, openings: (bytes[1] << 8) | bytes[2], battery: bytes[3] / 50 } };
}
