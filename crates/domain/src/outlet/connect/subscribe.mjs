import mqtt from "mqtt";

const { MQTT_ACCOUNT: username, MQTT_PASSWORD: password } = process.env;
const client = mqtt.connect("THE-SCHEME://broker.example:1883", { username, password });
client.on("connect", () => client.subscribe("THE/TOPIC", { qos: 1 }));
client.on("message", (topic, payload) => console.log(topic, JSON.parse(payload)));
client.on("error", (error) => console.error(error.message));
