"""Starts programs from a process that has loaded already what each of them loads, so that a hundred starts do not load it a hundred
times. What loading itself does is tested with processes of their own (`tests.service.test_start`).
"""

from __future__ import annotations

import contextlib
import gc
import importlib
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
from types import SimpleNamespace
from typing import NoReturn

from yielding_tether.service import worker

ROOT = Path(__file__).resolve().parents[1]

#: Names the socket of the nursery that a whole run shares; without it programs are started as users start them.
AT = "YIELDING_TETHER_TEST_NURSERY"

#: Characters of a number that a nursery tells.
SIZE = 8


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
    """A program that a nursery started, with the file descriptors to which it says all it says and from which it hears: what tests
    and a crew of workers ask of `subprocess.Popen`."""

    def __init__(self, module: str, environment: dict[str, str], said: int, heard: int) -> None:
        self._line = socket.socket(socket.AF_UNIX)
        self._line.connect(os.environ[AT])
        asked = json.dumps([module, environment]).encode()
        socket.send_fds(self._line, [len(asked).to_bytes(4, "big")], [said, heard])
        self._line.sendall(asked)
        self.pid = self._number()
        self.returncode: int | None = None

    def wait(self, timeout: float | None = None) -> int:
        if self.returncode is None:
            if not select.select([self._line], [], [], timeout)[0]:
                raise subprocess.TimeoutExpired(f"process {self.pid}", timeout or 0.0)
            self.returncode = self._number()
            self._line.close()
        return self.returncode

    def _number(self) -> int:
        told = self._line.recv(SIZE, socket.MSG_WAITALL)
        if not told:
            raise RuntimeError("The nursery is gone: what it started is to be ended before it.")
        return int(told)

    def poll(self) -> int | None:
        try:
            return self.wait(0)
        except subprocess.TimeoutExpired:
            return None

    def send_signal(self, sign: int) -> None:
        if self.poll() is None:
            os.kill(self.pid, sign)

    def terminate(self) -> None:
        self.send_signal(signal.SIGTERM)

    def kill(self) -> None:
        self.send_signal(signal.SIGKILL)


def start(
    module: str, environment: dict[str, str], said: int = 1, real: bool = False
) -> subprocess.Popen[bytes] | Started:
    """Starts a module as a program that says all to a file descriptor: by the nursery, if any, unless it is to be `real`."""
    if AT in os.environ and not real:
        with open(os.devnull) as nothing:
            return Started(module, environment, said, nothing.fileno())
    return subprocess.Popen([sys.executable, "-m", module], cwd=ROOT, env=environment, stdout=said, stderr=said)


class _Worker(Started):
    """A worker of a program that a nursery started."""

    def __init__(self, command: list[str], env: dict[str, str], **_: object) -> None:
        heard, self.stdin = os.pipe()
        super().__init__(command[2], {**env, AT: os.environ[AT]}, 1, heard)
        os.close(heard)


def main(door: socket.socket) -> None:
    """Loads all, then starts what is asked for until its own input ends."""
    from yielding_tether.core.findings import find_all
    from yielding_tether.core.program import Program
    from yielding_tether.demo import scenes
    from yielding_tether.service.app import create_app
    from yielding_tether.store.store import Store

    # Read with the program when it starts.
    importlib.import_module("yielding_tether.service.patience")
    create_app(Store("postgresql+psycopg://nobody@127.0.0.1:1/none"))
    for scene, takes in scenes():
        for take in takes:
            find_all(Program(scene, take))
    gc.collect()
    gc.freeze()
    children: dict[int, socket.socket] = {}
    woken, wake = os.pipe()
    os.set_blocking(wake, False)
    signal.set_wakeup_fd(wake)
    signal.signal(signal.SIGCHLD, lambda *_: None)
    while sys.stdin not in (ready := select.select([door, sys.stdin, woken], [], [])[0]):
        if woken in ready:
            os.read(woken, 4096)
            _bury(children)
        if door in ready:
            line, _ = door.accept()
            head, streams, _, _ = socket.recv_fds(line, 4, 2)
            with line.makefile("rb") as asked:
                module, environment = json.loads(asked.read(int.from_bytes(head, "big")))
            pid = os.fork()
            if not pid:
                signal.set_wakeup_fd(-1)
                signal.signal(signal.SIGCHLD, signal.SIG_DFL)
                for mine in (door, line, *children.values()):
                    mine.close()
                os.close(woken)
                os.close(wake)
                _become(module, environment, *streams)
            line.sendall(f"{pid:{SIZE}}".encode())
            for stream in streams:
                os.close(stream)
            children[pid] = line


def _bury(children: dict[int, socket.socket]) -> None:
    """Tells of those who have ended how they did."""
    while children:
        pid, status = os.waitpid(-1, os.WNOHANG)
        if not pid:
            break
        with children.pop(pid) as line, contextlib.suppress(BrokenPipeError):
            line.sendall(f"{os.waitstatus_to_exitcode(status):{SIZE}}".encode())


def _become(module: str, environment: dict[str, str], said: int, heard: int) -> NoReturn:
    """Runs a module as a program of its own, whose workers the nursery starts too."""
    for stream, own in ((heard, 0), (said, 1), (said, 2)):
        os.dup2(stream, own)
    os.close(heard)
    os.close(said)
    worker.subprocess = SimpleNamespace(PIPE=subprocess.PIPE, Popen=_Worker)  # type: ignore[attr-defined]
    os.environ.clear()
    os.environ.update(environment)
    random.seed()
    sys.argv = [module]
    # It becomes the main module, which it is not yet.
    sys.modules.pop(module, None)
    code = 0
    try:
        runpy.run_module(module, run_name="__main__", alter_sys=True)
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else int(end.code is not None)
    except BaseException:
        traceback.print_exc()
        code = 1
    finally:
        sys.stdout.flush()
        os._exit(code)


if __name__ == "__main__":
    main(socket.socket(fileno=int(sys.argv[1])))
