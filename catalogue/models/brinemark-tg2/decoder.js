// Tide gauge: level in mm, salinity in 0.01 g/kg, battery in mV, each two bytes, high byte first.
function decodeUplink(input) {
  const b = input.bytes;
  if (input.fPort !== 2) return { errors: [`port ${input.fPort} is not used by this gauge`] };
  if (b.length !== 6) return { errors: [`6 bytes expected, ${b.length} received`] };
  const u16 = (at) => (b[at] << 8) | b[at + 1];
  const battery = u16(4) / 1000;
  return {
    data: { water_level: u16(0) / 1000, salinity: u16(2) / 100, battery },
    warnings: battery < 3.2 ? ["battery is low"] : [],
  };
}
