"""Loaded by the process that forks: the program's commands are put together once, not in each fork."""

import os
import sys
import time
from functools import cache

import typer.main

from yellowtor.cli.main import app, main

typer.main.get_command = cache(typer.main.get_command)
typer.main.get_command(app)


def run_program(args, folder, env, out, err):
    os.nice(5)
    os.chdir(folder)
    os.environ.clear()
    os.environ.update(env)
    time.tzset()
    for number, path in ((1, out), (2, err)):
        os.dup2(os.open(path, os.O_WRONLY | os.O_CREAT), number)
    sys.argv = ["yellowtor", *args]
    main()
