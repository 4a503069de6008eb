"""A Redis, a PostgreSQL and a receiver of this folder's own, on loopback, until Ctrl-C; what they keep is in ``build``.

They are Debian's (``apt install redis-server postgresql``); the machine's own Redis and PostgreSQL are not touched.
"""

import os
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
from pathlib import Path

BUILD = Path(__file__).parent / "build"


def program(name: str) -> str:
    """The path of a program, also where Debian keeps it aside."""
    aside = sorted(map(str, Path("/usr/lib/postgresql").glob("*/bin")), reverse=True)
    found = shutil.which(name, path=os.pathsep.join([os.environ["PATH"], "/usr/sbin", *aside]))
    if found is None:
        sys.exit(f"{name} is not installed: apt install redis-server postgresql")
    return found


def main() -> None:
    shutil.rmtree(BUILD, ignore_errors=True)
    BUILD.mkdir()
    data, other = str(BUILD / "postgresql"), list[str]()
    if os.getuid() == 0:  # PostgreSQL does not run as root
        data, other = tempfile.mkdtemp(prefix="pribble-queue-"), ["setpriv", "--reuid", "nobody", "--clear-groups"]
        shutil.chown(data, "nobody")
    making = [program("initdb"), "-D", data, "-U", "pribble", "-A", "trust", "-E", "UTF8", "--locale=C"]
    subprocess.run([*other, *making], check=True, stdout=subprocess.DEVNULL, cwd="/")
    serving = [program("postgres"), "-D", data, "-k", "", "-h", "127.0.0.1", "-p", "5440"]
    remembering = [program("redis-server"), "--port", "6390", "--bind", "127.0.0.1", "--save", "", "--dir", str(BUILD)]
    receiving = [sys.executable, "-m", "pribble", "receive", "--port", "8025", "--folder", str(BUILD / "received")]
    ended = threading.Event()
    for one in (signal.SIGTERM, signal.SIGINT):
        signal.signal(one, lambda *_: ended.set())
    with open(BUILD / "servers.log", "wb") as log:
        running = [
            subprocess.Popen([*other, *serving], stdout=log, stderr=log, cwd="/"),
            subprocess.Popen(remembering, stdout=log, stderr=log),
            subprocess.Popen(receiving),
        ]
        while not ended.wait(0.5) and all(one.poll() is None for one in running):
            pass
        for each in running:
            each.send_signal(signal.SIGINT)
        for each in running:
            each.wait()


if __name__ == "__main__":
    main()
