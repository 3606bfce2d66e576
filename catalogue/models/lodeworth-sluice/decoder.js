// Sluice actuator: opening in percent, whether the gate is open, battery in 20 mV.
function decodeUplink(input) {
  const [opening, open, battery] = input.bytes;
  if (battery === undefined) return { errors: ["3 bytes expected"] };
  return { data: { opening, open: open === 1, battery: battery / 50 } };
}

// A command: {"opening": 40}, in percent.
function encodeDownlink({ data }) {
  const { opening } = data;
  if (!Number.isInteger(opening) || opening < 0 || opening > 100) return { errors: ["opening is 0 to 100, in percent"] };
  return { bytes: [opening], fPort: 10 };
}
