"""What every page of ours has: styles and scripts inside, a policy that names them by their hashes, data as JSON."""

import base64
import hashlib
import json
import re
from collections.abc import Sequence
from importlib.resources import files
from typing import Any
from urllib.parse import urlsplit

from jinja2 import Environment, PackageLoader, StrictUndefined, select_autoescape
from markupsafe import Markup

from yellowtor.markers import style

ASSETS = files("yellowtor.markers") / "assets"


def rendered(page: str, styles: Sequence[str], scripts: Sequence[Sequence[str]], data: Any, **values: Any) -> str:
    """A page from its template, the names of its style sheets and of its scripts, and the data for them.

    tiles (in values) is the address of map tiles, asks that the page may send requests to where it came from.
    """
    environment = Environment(
        loader=PackageLoader("yellowtor.markers", "assets"), autoescape=select_autoescape(), undefined=StrictUndefined
    )
    sheets = [re.sub(r"url\([^)]*\)", "none", _asset("leaflet.css"))]  # its images are not used
    sheets += [environment.get_template(name).render(style=style) for name in styles]
    codes = ["\n".join(map(_asset, names)) for names in scripts]
    policy = _policy(sheets, codes, values.pop("tiles", ""), asks=values.pop("asks", False))
    return environment.get_template(page).render(
        policy=policy,
        styles=[Markup(one) for one in sheets],  # noqa: S704 - our own
        scripts=[Markup(one) for one in codes],  # noqa: S704 - our own
        data=Markup(_for_script(data)),  # noqa: S704 - nothing in it can end the element
        **values,
    )


def _policy(styles: Sequence[str], scripts: Sequence[str], tiles: str, *, asks: bool) -> str:
    """What the page may do (Content Security Policy Level 3): its own scripts and styles, and the tiles' pictures."""
    hosts = ""
    if tiles:
        found = urlsplit(tiles)
        hosts = f" {found.scheme}://{re.sub(r'{[^}]*}', '*', found.netloc)}"
    connect = "connect-src 'self'; " if asks else ""
    return (
        f"default-src 'none'; script-src {' '.join(map(_hash, scripts))}; style-src {' '.join(map(_hash, styles))}; "
        f"{connect}img-src data:{hosts}; base-uri 'none'; form-action 'none'"
    )


def _hash(text: str) -> str:
    return f"'sha256-{base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()}'"


def _asset(name: str) -> str:
    return str((ASSETS / name).read_text(encoding="utf-8")).strip() + "\n"


def _for_script(data: Any) -> str:
    """JSON that can stand inside a script element: nothing in it can end the element."""
    text = json.dumps(data, ensure_ascii=False, separators=(",", ":"))
    return text.replace("<", "\\u003c").replace(">", "\\u003e").replace("&", "\\u0026").replace("\u2028", "\\u2028")
