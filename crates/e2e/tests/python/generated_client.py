"""Works with a client that was made from the OpenAPI document: lists devices, imports a file, reads a live message.

Arguments: the folder of the client, the service's address, a token, the estate, a payload in hex for a rehearsal.
"""

import io
import json
import sys
import threading

folder, url, token, estate, payload = sys.argv[1:]
sys.path.insert(0, folder)

from keen_heron_client import AuthenticatedClient  # noqa: E402
from keen_heron_client.api.decoders import rehearse  # noqa: E402
from keen_heron_client.api.devices import import_devices, list_devices  # noqa: E402
from keen_heron_client.api.traffic import live  # noqa: E402
from keen_heron_client.models import Rehearse, MessageUplink  # noqa: E402
from keen_heron_client.types import File  # noqa: E402

client = AuthenticatedClient(base_url=url, token=token, raise_on_unexpected_status=True)
before = [device.name for device in list_devices.sync(estate, client=client).items]

csv = b"dev_eui,join_eui,app_key,name,fleet\n02b00a0000000001,02aa000000000009,generate,imported,bench\n"
outcome = import_devices.sync(estate, client=client, body=File(payload=io.BytesIO(csv)))
after = [device.name for device in list_devices.sync(estate, client=client).items]

heard = {}
with client.get_httpx_client().stream("GET", live._get_kwargs(estate)["url"], timeout=30) as stream:
    lines = stream.iter_lines()
    next(lines)  # the comment that says that it listens
    ask = threading.Thread(
        target=lambda: rehearse.sync(
            estate, before[0], client=AuthenticatedClient(base_url=url, token=token), body=Rehearse(payload=payload)
        )
    )
    ask.start()
    for line in lines:
        if line.startswith("data:"):
            message = MessageUplink.from_dict(json.loads(line[5:]))
            heard = {"type": message.type_, "payload": message.frame.payload, "device": message.device.name}
            break
    ask.join()

print(json.dumps({"before": before, "registered": outcome.registered, "after": after, "heard": heard}))
