import json, os, urllib.request

URL = "https://heron.example/api/v1/estates/ESTATE/messages"
headers = {"Authorization": "Bearer " + os.environ["HERON_TOKEN"]}
# Keep `after` between runs, and nothing is missed.
after = os.environ.get("AFTER", "")
while True:
    url = URL + (f"&after={after}" if after else "")
    with urllib.request.urlopen(urllib.request.Request(url, headers=headers), timeout=90) as answer:
        page = json.load(answer)
    for message in page["items"]:
        device = message.get("device") or {}
        print(message["time"], message["type"], device.get("name"), message.get("readings"), flush=True)
    after = page["next"]
