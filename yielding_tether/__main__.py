"""Starts everything: the database, the demo data once, the service. `./start` runs this."""

from __future__ import annotations

import argparse
import fcntl
import gc
import logging
import os
import signal
import socket
import sys
import threading
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from types import FrameType
from typing import TYPE_CHECKING, NoReturn

import uvicorn
from sqlalchemy.exc import ArgumentError, DBAPIError, NoSuchModuleError

from .service.settings import Settings
from .store.cluster import Cluster, ClusterError, private_cluster, state_folder

if TYPE_CHECKING:
    # What takes long to load is loaded while the database starts; what hinders a start is told before either.
    from .service.worker import Crew
    from .store.store import Store

WEB = Path(__file__).resolve().parents[1] / "web" / "dist"


def main() -> int:
    """Runs until it is stopped; returns an exit code."""
    parser = argparse.ArgumentParser(prog="yielding_tether", description=__doc__)
    parser.add_argument("--warm", action="store_true", help="only compile the kernels, then stop")
    parser.add_argument("--backup", metavar="FILE", type=Path, help="write all that is stored to a file, then stop")
    parser.add_argument(
        "--restore", metavar="FILE", type=Path, help="put a backup in the place of what is stored, then stop"
    )
    parser.add_argument(
        "--tidy", action="store_true", help="remove what nothing refers to any more, say how much, then stop"
    )
    asked = parser.parse_args()
    if asked.warm:
        from .warm import warm

        warm()
        return 0
    if asked.backup or asked.restore or asked.tidy:
        return _keep(asked.backup, asked.restore)
    try:
        settings = Settings.read()
    except ValueError as error:
        return _fail(str(error))
    state = state_folder()
    try:
        state.mkdir(parents=True, exist_ok=True)
        lock = (state / "lock").open("w")
    except OSError as error:
        return _fail(f"{state} can't be written to: {error.strerror}. Set YIELDING_TETHER_STATE to another folder.")
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return _fail(
            f"Another Yielding Tether already uses {state}: stop it, or set YIELDING_TETHER_STATE to another folder."
        )
    # Named as TCP, so that small answers are not held back to be sent together.
    door = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    door.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        door.bind(("127.0.0.1", settings.port))
    except OSError as error:
        return _fail(
            f"Port {settings.port} can't be used: {error.strerror}. Stop what uses it, or set YIELDING_TETHER_PORT to another."
        )
    cluster: Cluster | None = None
    crew: Crew | None = None
    ended = threading.Event()
    # A plain kill, or a terminal that is closed, must stop the database too; whoever asks twice is not kept waiting.
    for sign in (signal.SIGTERM, signal.SIGHUP):
        signal.signal(sign, lambda *_: sys.exit(0))
    code = 0
    try:
        with ThreadPoolExecutor(1) as beside:
            if settings.url is None:
                cluster = private_cluster(state)
                starting = beside.submit(cluster.start)
            # Modules are no garbage: neither now, while there are ever more of them, nor later is there any to be found in them.
            gc.disable()
            from .service.app import create_app
            from .service.patience import Patient
            from .service.worker import Crew
            from .store.jobs import Jobs
            from .store.store import Store

            gc.freeze()
            gc.enable()
            if cluster is not None:
                starting.result()
                threading.Thread(target=cluster.watch, args=(ended,), daemon=True).start()
        # What goes wrong between us and the database is told by us, once.
        logging.getLogger("psycopg").setLevel(logging.ERROR)
        store = Store(_with_driver(cluster.url if cluster is not None else str(settings.url)))
        store.migrate()
        _load_demo(store)
        crew = Crew(store.url, settings.workers)
        jobs = Jobs(store.engine, crew.hurry)
        if jobs.any_waiting():
            crew.hurry()
        # Poses on their way through this machine are not compressed: that took a third of live posing.
        config = uvicorn.Config(
            create_app(store, WEB, settings.key, jobs), http=Patient, log_level="warning",
            ws_max_size=65536, ws_per_message_deflate=False, timeout_graceful_shutdown=2, limit_concurrency=256,
            backlog=128, timeout_keep_alive=30,
        )  # fmt: skip
        _Server(config, settings.port).run(sockets=[door])
    except ClusterError as error:
        code = _fail(str(error))
    except (ArgumentError, NoSuchModuleError, DBAPIError) as error:
        said = str(error.__cause__ or error).strip().splitlines()[0]
        where = "that YIELDING_TETHER_DATABASE_URL names" if cluster is None else f"in {cluster.folder}"
        code = _fail(f"The database {where} can't be used: {said}")
    except (KeyboardInterrupt, SystemExit):
        pass
    finally:
        for sign in (signal.SIGTERM, signal.SIGHUP, signal.SIGINT):
            signal.signal(sign, lambda *_: _leave(cluster, 1))
        ended.set()
        if crew is not None:
            crew.stop()
    _leave(cluster, code)
    return code


def _keep(to: Path | None, back: Path | None) -> int:
    """Writes a backup or tidies up, while the program runs or not, or puts a backup back, while it does not."""
    from .store.backup import backup, restore

    state = state_folder()
    cluster = private_cluster(state)
    try:
        with (state / "lock").open("a") as lock:
            try:
                fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
                runs = False
            except BlockingIOError:
                runs = True
            if runs and back:
                return _fail("Yielding Tether runs: stop it first, so that nobody works on what is put away.")
            if runs and not (cluster.folder / "data").exists():
                return _fail("Yielding Tether is just starting here for the first time: nothing is stored yet.")
            cluster.start()
            try:
                if to:
                    size = backup(cluster, to.absolute())
                    print(f"All that is stored is in {to}: {size / 1e6:.1f} MB.")
                elif back:
                    count = restore(cluster, back.absolute())
                    print(
                        f"{count} scenes are back from {back}. What was there before is kept as the database tether_before."
                    )
            finally:
                if not runs:
                    cluster.stop()
    except (ClusterError, OSError) as error:
        return _fail(str(error))
    return 0


def _leave(cluster: Cluster | None, code: int) -> NoReturn:
    """Stops the database and ends at once, whatever a request is still at: nothing that was answered is lost by that."""
    for sign in (signal.SIGTERM, signal.SIGHUP, signal.SIGINT):
        signal.signal(sign, signal.SIG_IGN)
    if cluster is not None and cluster.port:
        cluster.stop("fast" if code == 0 else "immediate")
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(code)


class _Server(uvicorn.Server):
    """Says that it is ready once it is, and takes a closed terminal for a wish to stop."""

    def __init__(self, config: uvicorn.Config, port: int) -> None:
        super().__init__(config)
        self.port = port

    def handle_exit(self, sig: int, frame: FrameType | None) -> None:
        # Whoever asks twice is not kept waiting.
        self.force_exit = self.should_exit
        super().handle_exit(sig, frame)

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        await super().startup(sockets)
        signal.signal(signal.SIGHUP, self.handle_exit)
        print(f"Yielding Tether is ready at http://127.0.0.1:{self.port}", flush=True)


def _with_driver(url: str) -> str:
    """PostgreSQL addresses as people write them, with the driver that is installed."""
    for plain in ("postgresql://", "postgres://"):
        if url.startswith(plain):
            return "postgresql+psycopg://" + url[len(plain) :]
    return url


def _load_demo(store: Store) -> None:
    if not store.scenes():
        from .demo import scenes

        # Home lists the newest first: the take of the first run comes last. All or none, whenever this is stopped.
        store.add_scenes(scenes())


def _fail(message: str) -> int:
    print(message, file=sys.stderr)
    return 1


if __name__ == "__main__":
    sys.exit(main())
