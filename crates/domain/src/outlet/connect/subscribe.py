import json, os, ssl
import paho.mqtt.client as mqtt

def heard(client, _, message):
    print(message.topic, json.loads(message.payload), flush=True)

client = mqtt.Client(mqtt.CallbackAPIVersion.VERSION2)
if "MQTT_PASSWORD" in os.environ:
    client.username_pw_set(os.environ["MQTT_ACCOUNT"], os.environ["MQTT_PASSWORD"])
if "THE-SCHEME" == "mqtts":
    client.tls_set(cert_reqs=ssl.CERT_REQUIRED)
client.on_connect = lambda client, *_: client.subscribe("THE/TOPIC", qos=1)
client.on_message = heard
client.connect("broker.example", 1883)
client.loop_forever()
