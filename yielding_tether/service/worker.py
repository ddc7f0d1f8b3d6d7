"""Worker processes: they take jobs from the queue, within a bound of memory, and say how far they are.

A worker ends with the program that started it, and is started again when it dies. Whatever it was at then is not half done:
what a job stores is one transaction.
"""

from __future__ import annotations

import asyncio
import logging
import os
import resource
import subprocess
import sys
import threading
import time
from collections.abc import Iterator

from procrastinate import App

from ..core.progress import Cancelled, watched
from ..store.jobs import TASK, Job, Jobs, Pieces, queue_app
from ..store.store import Store
from .problems import TOLD, problem_of
from .settings import ADDRESS, job_memory
from .work import WORK

log = logging.getLogger(__name__)

#: Seconds between two looks at whether a job is still wanted.
EVERY = 0.15
#: Seconds of silence after which a worker is taken for dead.
SILENT = 30.0
#: Seconds between two looks at whether the workers live, and at most where they die again and again.
SOON, LATE = 0.5, 15.0
#: Seconds after which the first are started where nobody needs one before.
FIRST = 20.0


class Worker:
    """Does jobs of a store."""

    def __init__(self, store: Store) -> None:
        self.store = store
        self.jobs = Jobs(store.engine)

    def work(self, job: int) -> None:
        """Does the job of this number, and writes what came of it."""
        with self.jobs.working(job) as found:
            if found is not None:
                self._do(found)

    def _do(self, job: Job) -> None:
        last = 0.0

        def tell(done: float, doing: str) -> None:
            nonlocal last
            if time.monotonic() - last > EVERY:
                if not self.jobs.tell(job.id, done, doing):
                    raise Cancelled
                last = time.monotonic()

        def read() -> bytes:
            return b"".join(self.jobs.pieces(job.id, "in"))

        def write(blocks: Iterator[bytes]) -> int:
            pieces = Pieces()
            for block in blocks:
                for piece in pieces.add(block):
                    self.jobs.put(job.id, "out", *piece)
            for piece in pieces.rest():
                self.jobs.put(job.id, "out", *piece)
            return pieces.size

        try:
            with watched(tell):
                result = WORK[job.kind](self.store, job.arguments, read, write)
            self.jobs.end(job.id, "done", result.model_dump())
        except Cancelled:
            self.jobs.end(job.id, "cancelled")
        except Exception as error:
            if not isinstance(error, TOLD):
                log.exception("A job failed")
            status, problem = problem_of(error)
            self.jobs.end(job.id, "failed", problem={**problem.model_dump(), "status": status})
            if isinstance(error, MemoryError):
                # What is left of it would be in the way of the next one.
                os._exit(3)

    async def run(self) -> None:
        """Takes jobs from the queue until it is stopped."""
        app = queue_app(self.store.url)
        app.task(name=TASK)(self.work)
        async with app.open_async():
            retrying = asyncio.create_task(_retry(app))
            await app.run_worker_async(
                concurrency=1, delete_jobs="always", install_signal_handlers=False, fetch_job_polling_interval=2.0
            )
            retrying.cancel()


async def _retry(app: App) -> None:
    """Gives jobs back to the queue whose worker died between taking them from it and beginning; one that was begun is known as
    lost by its row, and not done again."""
    while True:
        await asyncio.sleep(SILENT / 3)
        for job in await app.job_manager.get_stalled_jobs(seconds_since_heartbeat=SILENT):
            await app.job_manager.retry_job(job)


class Crew:
    """Worker processes on a database; they are started again when they die, later and later where they die at once."""

    def __init__(self, url: str, count: int = 1) -> None:
        self._url, self._count = url, count
        self._needed, self._ended = threading.Event(), threading.Event()
        self._workers: list[subprocess.Popen[bytes]] = []
        threading.Thread(target=self._watch, daemon=True).start()

    def _started(self) -> subprocess.Popen[bytes]:
        # Whoever reads from us and reads no more knows that we are gone. What is freed goes back to the system.
        kept = {k: v for k, v in os.environ.items() if not k.startswith("MALLOC_")}
        return subprocess.Popen(
            [sys.executable, "-m", __name__], env={**kept, ADDRESS: self._url}, stdin=subprocess.PIPE, start_new_session=True
        )  # fmt: skip

    def _watch(self) -> None:
        # Whoever opens a page at once comes first: a worker loads as much as the program did.
        self._needed.wait(FIRST)
        wait = 0.0
        while not self._ended.wait(wait):
            alive = [w for w in self._workers if w.poll() is None]
            lost = len(self._workers) - len(alive)
            self._workers = [*alive, *(self._started() for _ in range(self._count - len(alive)))]
            wait = min(2.0 * wait, LATE) if lost else max(0.9 * wait, SOON)

    def hurry(self) -> None:
        """There is something to do: the first are started now."""
        self._needed.set()

    def stop(self) -> None:
        """Ends them at once, whatever they are at."""
        self._ended.set()
        self._needed.set()
        for worker in self._workers:
            worker.kill()


def main() -> None:
    """A worker on the database that the environment names, until whoever started it is gone."""
    threading.Thread(target=_end_with_parent, daemon=True).start()
    # Those who wait for an answer come first.
    os.nice(10)
    bound = job_memory()
    resource.setrlimit(resource.RLIMIT_DATA, (bound, bound))
    store = Store(os.environ[ADDRESS])
    # The queue's own lines tell nothing that the job's row does not.
    logging.getLogger("procrastinate").setLevel(logging.CRITICAL)
    logging.getLogger("psycopg").setLevel(logging.ERROR)
    asyncio.run(Worker(store).run())


def _end_with_parent() -> None:
    sys.stdin.buffer.read()
    os._exit(0)


if __name__ == "__main__":
    main()
