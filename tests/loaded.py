"""Runs the program in a fork of a process that has loaded it already: in a tenth of the time.

What a test starts and does not wait for (Example.start) is the installed command itself.
"""

import multiprocessing
import os
import subprocess
import sys
import time
from pathlib import Path
from tempfile import TemporaryDirectory

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
        "yellowtor.cli.main",
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
    ]
)


def run_loaded(args, folder, env, timeout):
    """The exit code, standard output and standard error of `yellowtor ARGS`. Raises TimeoutExpired."""
    with TemporaryDirectory() as aside:
        out, err = Path(aside) / "out", Path(aside) / "err"
        process = FORKS.Process(target=_main, args=(args, folder, env, out, err))
        process.start()
        process.join(timeout)
        if process.exitcode is None:
            process.kill()
            raise subprocess.TimeoutExpired(args, timeout)
        return process.exitcode, out.read_text(), err.read_text()


def _main(args, folder, env, out, err):
    os.nice(5)
    os.chdir(folder)
    os.environ.clear()
    os.environ.update(env)
    time.tzset()
    for number, path in ((1, out), (2, err)):
        os.dup2(os.open(path, os.O_WRONLY | os.O_CREAT), number)
    sys.argv = ["yellowtor", *args]
    from yellowtor.cli.main import main

    main()
