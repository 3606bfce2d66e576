import hashlib, hmac, json, os, time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

SECRET = os.environ.get("SIGNING_SECRET", "")

def is_ours(headers, body):
    told = headers["Keen-Heron-Time"]
    expected = hmac.new(SECRET.encode(), told.encode() + b"\n" + body, hashlib.sha256).hexdigest()
    return abs(time.time() - int(told)) < 300 and hmac.compare_digest(expected, headers["Keen-Heron-Signature"])

class Take(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def do_POST(self):
        body = self.rfile.read(int(self.headers["Content-Length"]))
        good = not SECRET or is_ours(self.headers, body)
        if good:
            messages = json.loads(body)
            for message in messages if isinstance(messages, list) else [messages]:
                print(json.dumps(message), flush=True)
        self.send_response(204 if good else 401)
        self.send_header("Content-Length", "0")
        self.end_headers()

    do_PUT = do_PATCH = do_POST

    def log_message(self, *_):
        pass

ThreadingHTTPServer(("", int(os.environ.get("PORT", "8080"))), Take).serve_forever()
