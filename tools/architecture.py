"""Makes docs/architecture.md: the packages drawn from their imports, the ledger's tables drawn from their schema."""

import ast
from collections import Counter
from pathlib import Path

from yellowtor.ledger.storage.schema import KEPT_TABLES

SRC = Path(__file__).parent.parent / "src" / "yellowtor"
ABOVE = ("checking", "api")  # single modules above the packages
TEMPLATE = Path(__file__).parent / "architecture-template.md"


def package_of(path: Path) -> str:
    """The package of a module: its folder below yellowtor, or the module itself above the packages."""
    parts = path.relative_to(SRC).parts
    return parts[0].removesuffix(".py")


def imports() -> Counter[tuple[str, str]]:
    """How many modules of one package import another."""
    found: Counter[tuple[str, str]] = Counter()
    for path in sorted(SRC.rglob("*.py")):
        here = package_of(path)
        there = set()
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            name = node.module if isinstance(node, ast.ImportFrom) else ""
            if name and name.startswith("yellowtor."):
                there.add(name.split(".")[1])
        found.update((here, other) for other in there if other != here)
    return found


def packages() -> str:
    """The packages and their imports without those that others imply, as a Mermaid flowchart."""
    folders = {path.name for path in SRC.iterdir() if (path / "__init__.py").exists()}
    shown = folders | set(ABOVE)
    below: dict[str, set[str]] = {name: set() for name in shown}
    for one, other in imports():
        if one in shown and other in folders:
            below[one].add(other)
    edges = [
        (one, other)
        for one in sorted(shown)
        for other in sorted(below[one])
        if not any(other in reachable(below, between) for between in below[one] - {other})
    ]
    return "\n".join(["flowchart TD", *(f"    {one} --> {other}" for one, other in edges)])


def reachable(below: dict[str, set[str]], start: str) -> set[str]:
    """The packages that one leads to, by any number of imports."""
    found: set[str] = set()
    waiting = [start]
    while waiting:
        new = below[waiting.pop()] - found
        found |= new
        waiting += new
    return found


def contents() -> str:
    """Each package's own line about itself."""
    lines = []
    for path in sorted(SRC.rglob("__init__.py")):
        name = ".".join(path.parent.relative_to(SRC).parts)
        doc = ast.get_docstring(ast.parse(path.read_text(encoding="utf-8")))
        if name and doc and "versions" not in name:
            lines.append(f"| `{name}` | {doc.splitlines()[0]} |")
    return "\n".join(lines)


def ledger() -> str:
    """The ledger's tables, as a Mermaid entity relationship diagram."""
    lines = ["erDiagram"]
    for table in KEPT_TABLES:
        lines.append(f"    {table.name} {{")
        for column in table.columns:
            key = " PK" if column.primary_key else " FK" if column.foreign_keys else ""
            lines.append(f"        {str(column.type).lower().split('(')[0]} {column.name}{key}")
        lines.append("    }")
    lines += [
        f"    {key.column.table.name} ||--o{{ {table.name} : {column.name}"
        for table in KEPT_TABLES
        for column in table.columns
        for key in column.foreign_keys
    ]
    return "\n".join(lines)


def architecture() -> str:
    """The whole page."""
    made = (
        TEMPLATE.read_text(encoding="utf-8")
        .replace("{packages}", packages())
        .replace("{contents}", contents())
        .replace("{ledger}", ledger())
    )
    return f"<!-- Made by tools/architecture.py from the code: change it there. -->\n\n{made}"
