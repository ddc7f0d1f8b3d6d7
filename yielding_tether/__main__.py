"""Starts everything: the database, the demo data once, the service. `./start` runs this."""

from __future__ import annotations

import argparse
import fcntl
import os
import signal
import sys
import threading
from pathlib import Path

import uvicorn

from .service.app import create_app
from .store.cluster import Cluster, ClusterError, private_cluster, state_folder
from .store.store import Store

WEB = Path(__file__).resolve().parents[1] / "web" / "dist"


def main() -> int:
    """Runs until it is stopped; returns an exit code."""
    parser = argparse.ArgumentParser(prog="yielding_tether", description=__doc__)
    parser.add_argument("--warm", action="store_true", help="only compile the kernels, then stop")
    if parser.parse_args().warm:
        from .warm import warm

        warm()
        return 0
    port = os.environ.get("YIELDING_TETHER_PORT", "8400")
    if not (port.isascii() and port.isdigit() and len(port) < 6) or not 1 <= int(port) <= 65535:
        return _fail(f"YIELDING_TETHER_PORT is {port!r}: use a number from 1 to 65535.")
    state = state_folder()
    state.mkdir(parents=True, exist_ok=True)
    lock = (state / "lock").open("w")
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return _fail(
            f"Another Yielding Tether already uses {state}: stop it, or set YIELDING_TETHER_STATE to another folder."
        )
    url = os.environ.get("YIELDING_TETHER_DATABASE_URL")
    cluster: Cluster | None = None
    ended = threading.Event()
    # A plain kill must stop the database too, so it ends the program the same way as Ctrl-C.
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    try:
        if url is None:
            cluster = private_cluster(state)
            cluster.start()
            url = cluster.url
            threading.Thread(target=cluster.watch, args=(ended,), daemon=True).start()
        store = Store(_with_driver(url))
        store.migrate()
        _load_demo(store)
        print(f"Yielding Tether is ready at http://127.0.0.1:{port}", flush=True)
        # Poses on their way through this machine are not compressed: that took a third of live posing.
        uvicorn.run(
            create_app(store, WEB), host="127.0.0.1", port=int(port), log_level="warning", ws_max_size=65536,
            ws_per_message_deflate=False,
        )  # fmt: skip
    except ClusterError as error:
        return _fail(str(error))
    except KeyboardInterrupt:
        return 0
    finally:
        ended.set()
        if cluster is not None and cluster.port:
            cluster.stop()
    return 0


def _with_driver(url: str) -> str:
    """PostgreSQL addresses as people write them, with the driver that is installed."""
    for plain in ("postgresql://", "postgres://"):
        if url.startswith(plain):
            return "postgresql+psycopg://" + url[len(plain) :]
    return url


def _load_demo(store: Store) -> None:
    if not store.scenes():
        from .demo.cast_off import cast_off
        from .demo.lantern_round import lantern_round

        # Home lists the newest first: the take of the first run comes last.
        for scene, take in (lantern_round(), cast_off()):
            store.add_scene(scene, [take])


def _fail(message: str) -> int:
    print(message, file=sys.stderr)
    return 1


if __name__ == "__main__":
    sys.exit(main())
