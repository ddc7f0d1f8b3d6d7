"""A backup of everything that is stored, in pg_dump's own format, and back."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

import psycopg
from psycopg import sql

from .cluster import Cluster, ClusterError, server_programs
from .store import Store

#: What a restore is made in before it takes the place of what was there, and what that is called afterwards.
_BESIDE, _BEFORE = "tether_restored", "tether_before"


def backup(cluster: Cluster, file: Path) -> int:
    """Writes a backup of a running cluster; returns its size in bytes. ClusterError says what can't be done; then no file is
    left behind, and none is ever replaced."""
    if file.exists():
        raise ClusterError(f"{file} is there already: choose another name, or move it away.")
    part = file.with_name(file.name + ".part")
    try:
        with part.open("wb") as out:
            # Files on their way in or out are asked for again.
            _client(cluster, "pg_dump", "--format=custom", "--exclude-table-data=job_piece", "--dbname=tether", out=out)
        # What can't be listed could not be restored either.
        _client(cluster, "pg_restore", "--list", str(part))
        part.replace(file)
    except OSError as error:
        raise ClusterError(f"{file} can't be written: {error.strerror}.") from None
    finally:
        part.unlink(missing_ok=True)
    return file.stat().st_size


def restore(cluster: Cluster, file: Path) -> int:
    """Puts a backup in the place of what a running cluster holds; returns how many scenes it has. What was there stays as the
    database tether_before until the next time. ClusterError says what can't be done; nothing is changed then."""
    if not file.is_file():
        raise ClusterError(f"{file} is not there: name the file that ./backup wrote.")
    with _admin(cluster) as db:
        db.execute(sql.SQL("drop database if exists {}").format(sql.Identifier(_BESIDE)))
        db.execute(sql.SQL("create database {}").format(sql.Identifier(_BESIDE)))
        try:
            _client(cluster, "pg_restore", "--exit-on-error", "--no-owner", f"--dbname={_BESIDE}", str(file))
            store = Store(cluster.url.rpartition("/")[0] + f"/{_BESIDE}")
            try:
                store.migrate()
                count = len(store.scenes())
            finally:
                store.close()
        except BaseException:
            db.execute(sql.SQL("drop database if exists {} with (force)").format(sql.Identifier(_BESIDE)))
            raise
        db.execute(sql.SQL("drop database if exists {} with (force)").format(sql.Identifier(_BEFORE)))
        # Whoever still looks (a vacuum, say) would keep the names from changing.
        db.execute(
            "select pg_terminate_backend(pid) from pg_stat_activity where datname in ('tether', %s)", [_BESIDE]
        )  # fmt: skip
        with db.transaction():
            for one, other in (("tether", _BEFORE), (_BESIDE, "tether")):
                rename = sql.SQL("alter database {} rename to {}")
                db.execute(rename.format(sql.Identifier(one), sql.Identifier(other)))
    return count


def _admin(cluster: Cluster) -> psycopg.Connection:
    return psycopg.connect(
        host="127.0.0.1",
        port=cluster.port,
        user="tether",
        password=cluster.password,
        dbname="postgres",
        autocommit=True,
    )


def _client(cluster: Cluster, program: str, *arguments: str, out: object = subprocess.DEVNULL) -> None:
    """Runs one of PostgreSQL's own programs; ClusterError with what it said if it fails."""
    reach = {"PGHOST": "127.0.0.1", "PGPORT": str(cluster.port), "PGUSER": "tether", "PGPASSWORD": cluster.password}
    done = subprocess.run(
        [str(server_programs() / program), *arguments], env={**os.environ, **reach}, stdout=out,  # type: ignore[call-overload]
        stderr=subprocess.PIPE, text=True, check=False,
    )  # fmt: skip
    if done.returncode != 0:
        raise ClusterError(f"{program} failed: {done.stderr.strip()[-400:]}")
