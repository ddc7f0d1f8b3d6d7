"""Starts programs from a process that has loaded already what each of them loads, so that a hundred starts do not load it a hundred
times. What loading itself does is tested with processes of their own (`tests.service.test_start`).
"""

from __future__ import annotations

import gc
import json
import os
import random
import runpy
import select
import signal
import socket
import subprocess
import sys
import tempfile
import traceback
from pathlib import Path

#: Names the socket of the nursery that a whole run shares; without it programs are started as users start them.
AT = "YIELDING_TETHER_TEST_NURSERY"


class Nursery:
    """A nursery that ends with its owner."""

    def __enter__(self) -> Nursery:
        self._folder = tempfile.TemporaryDirectory(prefix="tether-nursery-")
        os.environ[AT] = str(Path(self._folder.name) / "door")
        with socket.socket(socket.AF_UNIX) as door:
            # Whoever comes before it is ready waits in the queue.
            door.bind(os.environ[AT])
            door.listen(64)
            self._process = subprocess.Popen(
                [sys.executable, "-m", "tests.nursery", str(door.fileno())], stdin=subprocess.PIPE, pass_fds=[door.fileno()]
            )  # fmt: skip
        return self

    def __exit__(self, *_: object) -> None:
        del os.environ[AT]
        self._process.communicate()
        self._folder.cleanup()


class Started:
    """A program that a nursery started: what tests ask of `subprocess.Popen`."""

    def __init__(self, module: str, environment: dict[str, str]) -> None:
        with socket.socket(socket.AF_UNIX) as line:
            line.connect(os.environ[AT])
            asked = json.dumps([module, environment]).encode()
            socket.send_fds(line, [len(asked).to_bytes(4, "big")], [1, 2])
            line.sendall(asked)
            self.pid = int(line.recv(20))
            self._alive = os.pidfd_open(self.pid)
            # It begins when whoever asked for it holds it: it might be gone before otherwise.
            line.sendall(b"!")

    def poll(self) -> int | None:
        return 0 if select.select([self._alive], [], [], 0)[0] else None

    def wait(self, timeout: float | None = None) -> int:
        if not select.select([self._alive], [], [], timeout)[0]:
            raise subprocess.TimeoutExpired(f"process {self.pid}", timeout or 0.0)
        return 0

    def send_signal(self, sign: int) -> None:
        if self.poll() is None:
            signal.pidfd_send_signal(self._alive, sign)

    def terminate(self) -> None:
        self.send_signal(signal.SIGTERM)

    def kill(self) -> None:
        self.send_signal(signal.SIGKILL)

    def __del__(self) -> None:
        os.close(self._alive)


def start(module: str, root: Path, environment: dict[str, str]) -> subprocess.Popen[bytes] | Started:
    """Starts a module as a program, by the nursery where there is one."""
    if AT in os.environ:
        return Started(module, environment)
    return subprocess.Popen([sys.executable, "-m", module], cwd=root, env=environment)


def main(door: socket.socket) -> None:
    """Loads all, then starts what is asked for until its own input ends."""
    import yielding_tether.service.patience
    import yielding_tether.service.worker  # noqa: F401
    from yielding_tether.core.findings import find_all
    from yielding_tether.core.program import Program
    from yielding_tether.demo import scenes
    from yielding_tether.service.app import create_app
    from yielding_tether.store.store import Store

    create_app(Store("postgresql+psycopg://nobody@127.0.0.1:1/none"))
    for scene, takes in scenes():
        for take in takes:
            find_all(Program(scene, take))
    gc.collect()
    gc.freeze()
    # Who ends is not waited for here.
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    while sys.stdin not in select.select([door, sys.stdin], [], [])[0]:
        line, _ = door.accept()
        head, streams, _, _ = socket.recv_fds(line, 4, 2)
        size = int.from_bytes(head, "big")
        asked = b""
        while len(asked) < size and (more := line.recv(size - len(asked))):
            asked += more
        if os.fork() == 0:
            door.close()
            _become(line, streams, *json.loads(asked))
        line.close()
        for stream in streams:
            os.close(stream)


def _become(line: socket.socket, streams: list[int], module: str, environment: dict[str, str]) -> None:
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    line.sendall(str(os.getpid()).encode())
    line.recv(1)
    line.close()
    for stream, own in zip(streams, (1, 2), strict=True):
        os.dup2(stream, own)
        os.close(stream)
    with open(os.devnull) as nothing:
        os.dup2(nothing.fileno(), 0)
    os.environ.clear()
    os.environ.update(environment)
    random.seed()
    sys.argv = [module]
    code = 1
    try:
        runpy.run_module(module, run_name="__main__", alter_sys=True)
        code = 0
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else 1
    except BaseException:
        traceback.print_exc()
    finally:
        sys.stdout.flush()
        os._exit(code)


if __name__ == "__main__":
    main(socket.socket(fileno=int(sys.argv[1])))
