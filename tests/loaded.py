"""Runs the program in a fork of a process that has loaded it already: in a tenth of the time.

What a test starts and does not wait for (Example.start) is the installed command itself.
"""

import multiprocessing
import os
import subprocess
from multiprocessing import forkserver
from pathlib import Path
from tempfile import TemporaryDirectory

import pytest
from warmed import run_program

FORKS = multiprocessing.get_context("forkserver")
FORKS.set_forkserver_preload(
    [
        "aiohttp",
        "yarl",
        "yellowtor.cli.commands",
        "yellowtor.ledger.jobs.run_book",
        "yellowtor.ledger.storage.postgres",
        "yellowtor.ledger.storage.sqlite",
        "yellowtor.ledger.accounts.group_commit",
        "yellowtor.cli.service_commands",
        "yellowtor.run.asking.ask",
        "yellowtor.tables.text.delimited",
        "yellowtor.tables.workbook.workbook",
        "yellowtor.tables.database.database",
        "yellowtor.markers.formats.page",
        "yellowtor.markers.formats.geojson",
        "sqlalchemy.dialects.sqlite.pysqlite",
        "sqlalchemy.dialects.postgresql.psycopg",
        "sqlalchemy.dialects.mysql.pymysql",
        "filelock",
        "jinja2",
        "psycopg",
        "pymysql",
        "regex",
        "orjson",
        "warmed",
    ]
)
with pytest.MonkeyPatch.context() as there:
    there.setenv("PYTHONPATH", str(Path(__file__).parent), prepend=os.pathsep)  # where "warmed" is
    forkserver.ensure_running()


def run_loaded(args, folder, env, timeout):
    """The exit code, standard output and standard error of `yellowtor ARGS`. Raises TimeoutExpired."""
    with TemporaryDirectory() as aside:
        out, err = Path(aside) / "out", Path(aside) / "err"
        process = FORKS.Process(target=run_program, args=(args, folder, env, out, err))
        process.start()
        process.join(timeout)
        if process.exitcode is None:
            process.kill()
            raise subprocess.TimeoutExpired(args, timeout)
        return process.exitcode, out.read_text(), err.read_text()
