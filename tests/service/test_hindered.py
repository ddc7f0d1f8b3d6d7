"""A database that is away, full or too slow: told apart, in words, for every kind of request."""

from __future__ import annotations

import unittest
from collections.abc import Callable
from unittest.mock import patch

from psycopg import errors
from sqlalchemy.exc import OperationalError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from starlette.testclient import TestClient

from tests.servers import fresh_store
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
                (OperationalError("x", {}, errors.ConnectionTimeout("gone")), "away", "does not answer"),
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
            self.assertEqual(db.exec_driver_sql("show statement_timeout").scalar_one(), "1min")
            db.exec_driver_sql("set statement_timeout = 50")
            with self.assertRaises(OperationalError) as caught:
                db.exec_driver_sql("select pg_sleep(30)")
        self.assertIsInstance(caught.exception.orig, errors.QueryCanceled)


if __name__ == "__main__":
    unittest.main()
