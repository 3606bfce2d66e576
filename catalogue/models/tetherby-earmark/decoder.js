// Ear tag: body temperature in 0.01 °C, minutes of rumination since the last uplink, whether it lies.
function decodeUplink({ bytes }) {
  if (bytes.length !== 5) return { errors: [`5 bytes expected, ${bytes.length} received`] };
  return {
    data: {
      body_temperature: ((bytes[0] << 8) | bytes[1]) / 100,
      rumination: (bytes[2] << 8) | bytes[3],
      lying: (bytes[4] & 1) === 1,
    },
  };
}
