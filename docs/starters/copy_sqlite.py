"""Keeps a copy of the tables in SQLite, with the offset in the same transaction, so
that the copy has each change exactly once whatever is killed. Python 3.9, nothing to
install.

    RILLMARK_SERVER=http://127.0.0.1:7450 python3 copy_sqlite.py desk copy.db

With --once it ends when it has caught up. It never commits at the outlet: it asks for
what comes after its own offset, and says how far it is, so that `rillmark outlet list`
and the metrics know. Rows are kept as JSON by table and key; tables need a key.
"""

import json
import os
import sqlite3
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


def text(value):
    return json.dumps(value, ensure_ascii=False)


class Copy:
    """The rows of all tables, and the offset up to which they hold."""

    def __init__(self, path):
        self.db = sqlite3.connect(path, isolation_level=None)
        self.db.execute("CREATE TABLE IF NOT EXISTS row (name TEXT, key TEXT, image TEXT, PRIMARY KEY (name, key)) WITHOUT ROWID")
        self.db.execute("CREATE TABLE IF NOT EXISTS progress (offset INTEGER)")

    def offset(self):
        found = self.db.execute("SELECT offset FROM progress").fetchone()
        return found[0] if found else None

    def take(self, events, passed):
        """Applies a page and moves the offset, both or neither."""
        self.db.execute("BEGIN IMMEDIATE")
        try:
            for event in events:
                self.apply(event["data"])
            self.db.execute("DELETE FROM progress")
            self.db.execute("INSERT INTO progress VALUES (?)", (passed,))
            self.db.execute("COMMIT")
        except BaseException:
            self.db.execute("ROLLBACK")
            raise

    def image(self, table, key):
        found = self.db.execute("SELECT image FROM row WHERE name = ? AND key = ?", (table, text(key))).fetchone()
        return json.loads(found[0]) if found else {}

    def apply(self, data):
        operation, table = data["operation"], data.get("table", "")
        if operation in ("existing", "insert", "update"):
            image = data["after"]
            if data.get("omitted"):  # large values that did not change: they are as they were
                before = self.image(table, data.get("rekeyed") or data["key"])
                image = {**{name: before[name] for name in data["omitted"] if name in before}, **image}
            self.db.execute("INSERT OR REPLACE INTO row VALUES (?, ?, ?)", (table, text(data["key"]), text(image)))
            if operation == "insert" and data.get("rekeyed"):
                self.db.execute("DELETE FROM row WHERE name = ? AND key = ?", (table, text(data["rekeyed"])))
        elif operation == "delete":
            if not data.get("rekeyed"):  # else the insert that follows takes the row's values along
                self.db.execute("DELETE FROM row WHERE name = ? AND key = ?", (table, text(data["key"])))
        elif operation in ("truncate", "void"):
            self.db.execute("DELETE FROM row WHERE name = ?", (table,))
        elif operation == "schema":
            self.alter(table, data["schema"])

    def alter(self, table, schema):
        if schema.get("definition") is None:
            self.db.execute("DELETE FROM row WHERE name = ?", (table,))
            return
        now = {c["name"] for c in schema["definition"]["columns"]}
        names = {r["from"]: r["to"] for r in schema.get("renamed") or []}
        if not schema.get("previous"):
            return
        for key, image in self.db.execute("SELECT key, image FROM row WHERE name = ?", (table,)).fetchall():
            moved = {names.get(name, name): value for name, value in json.loads(image).items()}
            kept = {name: moved.get(name) for name in now if name in moved or not schema["rewrites"]}
            renamed_key = text({names.get(name, name): value for name, value in json.loads(key).items()})
            self.db.execute("DELETE FROM row WHERE name = ? AND key = ?", (table, key))
            self.db.execute("INSERT OR REPLACE INTO row VALUES (?, ?, ?)", (table, renamed_key, text(kept)))


def main(outlet, path, once):
    copy = Copy(path)
    while True:
        at = copy.offset()
        start = "" if at is None else f"&from={at + 1}"
        page = call(f"/v1/outlets/{outlet}/events?limit=500&wait={0 if once else 20}{start}")
        if page["passed"] > (at or 0):
            copy.take(page["events"], page["passed"])
            call(f"/v1/outlets/{outlet}/progress", {"offset": page["passed"]})
        elif once:
            return


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2], "--once" in sys.argv)
