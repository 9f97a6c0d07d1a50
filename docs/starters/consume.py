"""Reads a pull outlet and commits what is dealt with. Python 3.9, nothing to install.

    RILLMARK_SERVER=http://127.0.0.1:7450 python3 consume.py desk

With --once it ends when it has caught up, for a schedule. Several of these can
run beside each other: give each its own outlet, or use leases (docs/outlets/pull.md).
"""

import json
import os
import sys
import urllib.request

SERVER = os.environ.get("RILLMARK_SERVER", "http://127.0.0.1:7450")
TOKEN = os.environ.get("RILLMARK_TOKEN", "")


def call(path, body=None):
    request = urllib.request.Request(SERVER + path, method="GET" if body is None else "POST")
    request.add_header("Content-Type", "application/json")
    if TOKEN:
        request.add_header("Authorization", "Bearer " + TOKEN)
    data = None if body is None else json.dumps(body).encode()
    with urllib.request.urlopen(request, data, timeout=90) as answer:
        return json.load(answer)


def deal_with(event):
    """Yours. A repeat has the id of the first time, so remember ids or write by key."""
    data = event["data"]
    print(event["id"], data["operation"], data.get("table", ""), json.dumps(data.get("key")))


def main(outlet, once):
    while True:
        # Waits up to 20 seconds for a first event; the offset does not move.
        page = call(f"/v1/outlets/{outlet}/events?limit=500&wait={0 if once else 20}")
        for event in page["events"]:
            deal_with(event)
        if page["passed"] > page["committed"]:
            call(f"/v1/outlets/{outlet}/commit", {"committed": page["passed"]})
        elif once:
            return


if __name__ == "__main__":
    main(sys.argv[1], "--once" in sys.argv)
