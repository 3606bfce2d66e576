// Soil probe: for each depth moisture in 0.5 percent and temperature in 0.5 °C (signed); ff 7f where a sensor does not answer.
function decodeUplink({ bytes }) {
  if (bytes.length !== 6) return { errors: [`6 bytes expected, ${bytes.length} received`] };
  const data = {};
  const warnings = [];
  ["shallow", "middle", "deep"].forEach((depth, n) => {
    const [moisture, temperature] = [bytes[2 * n], bytes[2 * n + 1]];
    if (moisture === 0xff && temperature === 0x7f) warnings.push(`the ${depth} sensor does not answer`);
    else data[depth] = { moisture: moisture / 2, temperature: ((temperature << 24) >> 24) / 2 };
  });
  return { data, warnings };
}
