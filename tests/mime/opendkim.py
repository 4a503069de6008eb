"""What opendkim-testmsg says of a signed message.  It asks the name service for keys; here a small one of ours answers, in
namespaces of its own, so that nothing else of the machine sees it.

As a program, within those namespaces, it verifies the message in a file by the records in another.
"""

from __future__ import annotations

import fcntl
import json
import shutil
import socket
import struct
import subprocess
import sys
import tempfile
import threading
from collections.abc import Mapping
from pathlib import Path

from tests.support import ROOT

_FLAGS, _UP = 0x8914, struct.pack("16sH14x", b"lo", 1 | 64)  # SIOCSIFFLAGS: IFF_UP and IFF_RUNNING


def absent() -> str | None:
    """Why it cannot be asked; None where it can."""
    if shutil.which("opendkim-testmsg", path="/usr/sbin:/usr/bin:/sbin:/bin") is None:
        return "opendkim-testmsg is not installed"
    if subprocess.run(["unshare", "-m", "-n", "true"], capture_output=True).returncode:
        return "this machine permits no namespaces"
    return None


def verified(raw: bytes, records: Mapping[str, str]) -> str:
    """Returns what is wrong with the signatures of a message; "" where they verify."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "message").write_bytes(raw)
        (folder / "records").write_text(json.dumps(dict(records)))
        (folder / "resolv.conf").write_text("nameserver 127.0.0.1\noptions timeout:2 attempts:1\n")
        done = subprocess.run(
            ["unshare", "-m", "-n", sys.executable, "-m", "tests.mime.opendkim", name],
            cwd=ROOT,
            capture_output=True,
            text=True,
            timeout=60,
        )
        return done.stdout + done.stderr


def _main(folder: Path) -> None:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as control:
        fcntl.ioctl(control, _FLAGS, _UP)
    subprocess.run(["mount", "--bind", str(folder / "resolv.conf"), "/etc/resolv.conf"], check=True)
    server = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    server.bind(("127.0.0.1", 53))
    records = json.loads((folder / "records").read_text())
    threading.Thread(target=_answer, args=(server, records), daemon=True).start()
    with open(folder / "message", "rb") as message:
        done = subprocess.run(["/usr/sbin/opendkim-testmsg"], stdin=message, capture_output=True, text=True)
    print(done.stdout + done.stderr + (f"exit code {done.returncode}" if done.returncode else ""), end="")


def _answer(server: socket.socket, records: Mapping[str, str]) -> None:
    while True:
        question, asker = server.recvfrom(4096)
        labels, position = [], 12
        while length := question[position]:
            labels.append(question[position + 1 : position + 1 + length].decode())
            position += 1 + length
        asked = question[12 : position + 5]
        record = records.get(".".join(labels).lower())
        head = question[:2] + struct.pack(">HHHHH", 0x8180 if record else 0x8183, 1, int(bool(record)), 0, 0)
        body = b""
        if record:
            cut = [record[start : start + 255].encode() for start in range(0, len(record), 255)]
            text = b"".join(bytes([len(one)]) + one for one in cut)
            body = b"\xc0\x0c" + struct.pack(">HHIH", 16, 1, 60, len(text)) + text
        server.sendto(head + asked + body, asker)


if __name__ == "__main__":
    _main(Path(sys.argv[1]))
