"""A database that is away, full or too slow: told apart, in words, for every kind of request."""

from __future__ import annotations

import os
import signal
import time
import unittest
from collections.abc import Callable
from unittest.mock import patch

import httpx
import psycopg
from psycopg import errors
from sqlalchemy.exc import OperationalError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from starlette.testclient import TestClient

from tests.servers import PATIENCE, Service, ask, family, fresh_store
from yielding_tether.service.app import create_app
from yielding_tether.store.store import Store


class Hindered(unittest.TestCase):
    def test_each_hindrance_has_its_words(self) -> None:
        store = fresh_store()
        self.addCleanup(store.close)
        with TestClient(create_app(store), base_url="http://127.0.0.1") as client:
            self.assertEqual(client.get("/api/health").json(), {"service": "well", "database": "well"})
            for fault, state, words in (
                (OperationalError("x", {}, errors.DiskFull("no space")), "full", "disk of the database is full"),
                (OperationalError("x", {}, errors.QueryCanceled("slow")), "slow", "takes too long"),
                (OperationalError("x", {}, errors.LockNotAvailable("busy")), "slow", "takes too long"),
                (PoolTimeout("no connection"), "slow", "takes too long"),
                (OperationalError("x", {}, errors.ConnectionTimeout("late")), "slow", "takes too long"),
                (OperationalError("x", {}, psycopg.OperationalError("gone")), "away", "does not answer"),
            ):
                with self.subTest(state=state), self.hindered(fault, "scenes"), self.hindered(fault, "ping"):
                    health = client.get("/api/health")
                    self.assertEqual((health.status_code, health.json()["database"]), (503, state))
                    answer = client.get("/api/scenes")
                    self.assertEqual(answer.status_code, 503)
                    self.assertIn(words, answer.json()["message"])
                    self.assertIn("What was applied is safe", answer.json()["message"])

    def hindered(self, fault: Exception, method: str):  # type: ignore[no-untyped-def]
        def refuse(*_: object) -> Callable[..., object]:
            raise fault

        return patch.object(Store, method, refuse)

    def test_a_statement_that_takes_too_long_is_ended(self) -> None:
        store = fresh_store()
        self.addCleanup(store.close)
        with store.engine.connect() as db:
            self.assertEqual(db.exec_driver_sql("show statement_timeout").scalar_one(), "30s")
            db.exec_driver_sql("set statement_timeout = 50")
            with self.assertRaises(OperationalError) as caught:
                db.exec_driver_sql("select pg_sleep(30)")
        self.assertIsInstance(caught.exception.orig, errors.QueryCanceled)

    def test_a_server_that_is_stopped_is_told_as_slow_and_its_pages_come_all_the_same(self) -> None:
        service = Service(private=True)
        self.addCleanup(service.stop)
        take = next(t["id"] for s in ask.get(service.base + "/api/scenes").json() for t in s["takes"])
        with httpx.Client(base_url=service.base, timeout=PATIENCE) as client:
            # Connections of the pool are open already; their servers are stopped with the first one.
            head = client.get(f"/api/takes/{take}").json()["revision"]
            processes = family(service.state / "cluster/data/postmaster.pid")
            for process in processes:
                os.kill(process, signal.SIGSTOP)
            try:
                self.assertEqual(client.get("/").status_code, 200)
                health = client.get("/api/health")
                self.assertEqual((health.status_code, health.json()["database"]), (503, "slow"))
                answer = client.post(f"/api/takes/{take}/undo", json={"revision": head})
                self.assertEqual(answer.status_code, 503)
                self.assertIn("takes too long", answer.json()["message"])
            finally:
                for process in processes:
                    os.kill(process, signal.SIGCONT)
            for _ in range(200):
                if client.get("/api/health").status_code == 200:
                    break
                time.sleep(0.05)
            self.assertEqual(client.get(f"/api/takes/{take}").json()["revision"], head)


if __name__ == "__main__":
    unittest.main()
