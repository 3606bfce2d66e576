// Sluice actuator: opening in percent, whether the gate is open, battery in 20 mV.
function decodeUplink(input) {
  const [opening, open, battery] = input.bytes;
  if (battery === undefined) return { errors: ["3 bytes expected"] };
  return { data: { opening, open: open === 1, battery: battery / 50 } };
}
