"""An application that has no Pribble in it asks ``pribble serve``, with the standard library alone."""

import json
import os
import secrets
import signal
import subprocess
import sys
import tempfile
import time
from http.client import HTTPConnection
from pathlib import Path

from pribble.delivery.receiver import Receiver

TEMPLATE = "{{ subject: }}Berth {{ berth }} is yours{{ :subject }}<p>Dear {{ name }}, berth {{ berth }} is yours.</p>"
PROJECT = """\
journal = "post.journal"
[senders]
default = "Berth Office <berths@skerrow.example>"
[transports.default]
url = "%s"
[events.berth-booked]
key = "{{ reference }}"
[[events.berth-booked.messages]]
template = "berth"
to = "{{ name }} <{{ mail }}>"
"""


class MailroomClient:
    """Posts events to a server until it has an answer: asked again, nothing is sent twice."""

    def __init__(self, port: int, token: str) -> None:
        self.port, self.token = port, token

    def post(self, event: str, data: object) -> tuple[int, dict[str, object]]:
        head = {"Authorization": f"Bearer {self.token}", "Content-Type": "application/json"}
        for pause in (0.1, 0.5, 2, 5, 0):
            connection = HTTPConnection("127.0.0.1", self.port, timeout=60)
            try:
                connection.request("POST", f"/events/{event}", json.dumps(data), head)
                answer = connection.getresponse()
                said = json.loads(answer.read())
                if answer.status not in (409, 503):
                    return answer.status, said
            except OSError:  # nobody is there, or the answer was lost on the way
                pass
            finally:
                connection.close()
            time.sleep(pause)
        raise TimeoutError(f"the event {event} is not posted yet; post it again")


def main() -> None:
    with tempfile.TemporaryDirectory() as name, Receiver(Path(name) / "received") as receiver:
        folder, token = Path(name), secrets.token_urlsafe(32)
        (folder / "templates").mkdir()
        (folder / "templates/berth.html").write_text(TEMPLATE)
        (folder / "pribble.toml").write_text(PROJECT % receiver.address)
        command = [sys.executable, "-m", "pribble", "serve", "--port", "0"]
        server = subprocess.Popen(
            command, cwd=folder, stdout=subprocess.PIPE, env={**os.environ, "PRIBBLE_TOKEN": token}, text=True
        )
        assert server.stdout is not None
        port = int(json.loads(server.stdout.readline())["listening"].rpartition(":")[2])
        client = MailroomClient(port, token)
        booking = {"reference": "SH-1", "name": "Ana", "mail": "ana@example.org", "berth": "B 14"}
        for data in (booking, booking, {"reference": "SH-2", "name": "Bo", "mail": "bo@example.org"}):
            status, said = client.post("berth-booked", data)
            print(status, "posted" if said.get("is_new") else said.get("problems") or "posted before")
        server.send_signal(signal.SIGTERM)
        server.communicate()
        print(f"{len(receiver.received)} message received, exit code {server.returncode}")


if __name__ == "__main__":
    main()
