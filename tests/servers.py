"""What tests run against: a real PostgreSQL cluster and, where wanted, the real service in a process of its own."""

from __future__ import annotations

import atexit
import os
import shutil
import signal
import socket
import subprocess
import tempfile
import threading
import time
from collections.abc import Callable, Iterable
from functools import cache, partial
from pathlib import Path

import httpx
import psycopg
from websockets.sync.client import connect

from tests import nursery
from yielding_tether.__main__ import _load_demo
from yielding_tether.store.cluster import Cluster, free_port
from yielding_tether.store.store import Store

ROOT = Path(__file__).resolve().parents[1]

#: Seconds that tests wait for an answer: a machine on which much else runs may need ten times what it needs alone.
PATIENCE = 180

# A server that was killed leaves no connection to reuse.
ask = httpx.Client(timeout=PATIENCE, limits=httpx.Limits(max_keepalive_connections=0))
socket_to = partial(connect, open_timeout=PATIENCE, ping_timeout=60)


def node(script: str, *arguments: str) -> str:
    """What a script of web/tests prints: readers and validators of files that are not ours."""
    command = ["node", str(ROOT / "web/tests" / script), *arguments]
    done = subprocess.run(command, cwd=ROOT / "web", capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    return done.stdout


@cache
def cluster() -> Cluster:
    """One cluster for all tests of a run; it goes when the run ends."""
    base = Path(tempfile.mkdtemp(prefix="tether-test-"))
    base.chmod(0o755)
    made = Cluster(base / "cluster")
    made.start()

    def end() -> None:
        made.stop("immediate")
        shutil.rmtree(base, ignore_errors=True)

    atexit.register(end)
    return made


def database(template: str = "template1") -> str:
    """Address of a fresh database, empty or a copy of another."""
    c = cluster()
    name = f"t{time.time_ns()}"
    with psycopg.connect(
        host="127.0.0.1", port=c.port, user="tether", password=c.password, dbname="postgres", autocommit=True
    ) as db:
        # Whoever is still leaving it, or sweeping it, is in the way of a copy.
        db.execute("select pg_terminate_backend(pid, 5000) from pg_stat_activity where datname = %s", (template,))
        db.execute(f'create database "{name}" template "{template}"')
    return c.url.rsplit("/", 1)[0] + f"/{name}"


@cache
def _stocked() -> str:
    """Name of a database with the demo takes, of which others are copies: making the takes costs more than all the rest."""
    url = database()
    store = Store(url)
    store.migrate()
    _load_demo(store)
    store.engine.dispose()
    return url.rsplit("/", 1)[1]


def stocked_database() -> str:
    """Address of a fresh database with the demo takes, as it is after a first start."""
    return database(_stocked())


def fresh_store() -> Store:
    """A store on a fresh database with its tables."""
    store = Store(database())
    store.migrate()
    return store


def together(works: Iterable[Callable[[], object]], seconds: float) -> list[str]:
    """Does works again and again, each in a thread of its own, for so long; returns what was raised: whoever raises stops."""
    stop = threading.Event()
    raised: list[str] = []

    def run(work: Callable[[], object]) -> None:
        try:
            while not stop.is_set():
                work()
        except BaseException as error:
            raised.append(repr(error))

    threads = [threading.Thread(target=run, args=(work,)) for work in works]
    for thread in threads:
        thread.start()
    stop.wait(seconds)
    stop.set()
    for thread in threads:
        thread.join()
    return raised


def family(pid_file: Path) -> list[int]:
    """A database server, by the file in its data that names it, with all its backends."""
    server = int(pid_file.read_text().splitlines()[0])
    return [server, *(int(p.parent.name) for p in Path("/proc").glob("[0-9]*/stat") if _parent(p) == server)]


def _parent(stat: Path) -> int | None:
    """Parent of a process, or None if it has just gone."""
    try:
        return int(stat.read_text().rpartition(")")[2].split()[1])
    except (OSError, IndexError, ValueError):
        return None


class Service:
    """The real program, started as users start it, on a free port with its own state folder."""

    def __init__(
        self, url: str | None = None, private: bool = False, module: str = "yielding_tether", real: bool = False,
        **environment: str,
    ) -> None:  # fmt: skip
        """real: loaded as users start it, whatever else is started meanwhile."""
        self.module, self.real = module, real
        self.state = Path(tempfile.mkdtemp(prefix="tether-state-"))
        self.state.chmod(0o755)
        self.port = free_port()
        self.base = f"http://127.0.0.1:{self.port}"
        self.environment = {
            **os.environ, "YIELDING_TETHER_PORT": str(self.port), "YIELDING_TETHER_STATE": str(self.state),
            **environment,
        }  # fmt: skip
        if not private:
            made = stocked_database if module == "yielding_tether" else database
            self.environment["YIELDING_TETHER_DATABASE_URL"] = url or made()
        self.process: subprocess.Popen[bytes] | nursery.Started | None = None
        self.kept: socket.socket | None = None
        self.start()

    def start(self) -> None:
        if self.kept is not None:
            self.kept.close()
            self.kept = None
        self.process = nursery.start(self.module, self.environment, real=self.real)
        for _ in range(600):
            try:
                # One with a key is well too, and does not tell.
                if ask.get(f"{self.base}/api/health").status_code in (200, 401):
                    return
            except httpx.TransportError:
                pass
            if self.process.poll() is not None:
                break
            time.sleep(0.1)
        raise RuntimeError("the service did not start")

    def kill(self) -> None:
        """As a machine that loses its power would."""
        assert self.process is not None
        self.process.send_signal(signal.SIGKILL)
        self.process.wait()
        # Nobody else's program may answer in its place meanwhile.
        self.kept = socket.socket()
        self.kept.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        self.kept.bind(("127.0.0.1", self.port))

    def stop(self) -> None:
        if self.process is not None and self.process.poll() is None:
            self.process.terminate()
            self.process.wait(60)
        if self.kept is not None:
            self.kept.close()
        shutil.rmtree(self.state, ignore_errors=True)
