"""The command `check`: every problem of a job at once."""

import json
from dataclasses import asdict
from pathlib import Path

import typer
from rich.padding import Padding
from rich.text import Text

from yellowtor.checking import Checker
from yellowtor.cli.console import Progress, stderr, stdout, write_out
from yellowtor.errors import Exit


def check_command(path: Path, *, ask: bool, as_json: bool) -> None:
    progress = Progress(stderr())
    with progress.shown():
        found = list(Checker(path, progress, ask=ask).findings())
    problems = sum(len(item.problems) for item in found)
    if as_json:
        write_out(json.dumps({"problems": problems, "checked": [asdict(item) for item in found]}, ensure_ascii=False))
    else:
        console = stdout()
        width = max(len(item.what) for item in found)
        for item in found:
            sign = Text("✕", "bright_red") if item.problems else Text("✓", "green")
            console.print(sign, f"{item.what:<{width}}", Text(item.said, "bright_black"), soft_wrap=True)
            for problem in item.problems:
                text = Text(problem.replace("\n", "\n  "), "bright_red")
                if console.is_terminal:
                    console.print(Padding(text, (0, 0, 0, 2)), soft_wrap=False)
                else:
                    console.print(Text("  ").append(text), soft_wrap=True)
        count = "One problem." if problems == 1 else f"{problems} problems." if problems else "No problem."
        console.print(f"{count} {'' if ask else 'Nothing was sent.'}".rstrip())
    if problems:
        raise typer.Exit(int(Exit.BAD_JOB))
