"""JSONPath (RFC 9535), with the paths that descriptions are made of turned into plain getters.

A path of names and indexes, and one that ends in [*] after them, is read more than ten times as fast that
way; the library reads all others, and the tests hold the getters against it.
"""

import re
from collections.abc import Callable, Mapping
from typing import Any

from yellowtor.answers.replies.plain_values import as_written

Finder = Callable[[Any], list[Any]]
Getter = Callable[[Any], Any]
Holder = Callable[[Any], bool]  # whether the list that a path takes its items from is there
Fields = Callable[[Any], dict[str, str]]  # what several paths find, as texts by their names; nothing for nothing


class TooDeepError(Exception):
    """A value is nested more deeply than a path with `..` can go down."""


_PLAIN = re.compile(r"\$(?:\.[A-Za-z_][A-Za-z0-9_]*|\[(?:0|-?[1-9][0-9]{0,8})\])*(\[\*\])?")
_NAMES = re.compile(r"\$\.([A-Za-z_][A-Za-z0-9_]*)(?:\.([A-Za-z_][A-Za-z0-9_]*))?")
_STEP = re.compile(r"\.(\w+)|\[(-?\d+)\]")


def compile_path(path: str) -> Finder:
    """A function from a JSON value to the list of what the path finds in it.

    Raises ValueError for a path that does not parse.
    """
    plain = _PLAIN.fullmatch(path)
    if plain:
        find = _getter(tuple(name or int(index) for name, index in _STEP.findall(path)))
        return _all_of(find) if plain[1] else find
    import jsonpath_rfc9535 as jsonpath  # most descriptions do without, and it takes a while to load

    try:
        query = jsonpath.compile(path)
    except jsonpath.JSONPathError as error:
        raise ValueError(f"{path!r} is not a JSONPath of RFC 9535: {error}") from error
    return _finder(query)


def _finder(query: Any) -> Finder:
    """All values that a query of the library finds."""
    import jsonpath_rfc9535 as jsonpath

    def find(value: Any) -> list[Any]:
        try:
            return [node.value for node in query.find(value)]
        except (jsonpath.JSONPathRecursionError, RecursionError) as error:
            raise TooDeepError from error

    return find


def compile_holder(path: str) -> Holder:
    """A function from a JSON value to whether the list that a path takes its items from is in it.

    Only a path that ends in items of a list (`$.results[*]`) has one; an empty list there says that nothing was found.
    """
    if plain := _PLAIN.fullmatch(path):
        if not plain[1]:
            return lambda _: False
        find = compile_path(path.removesuffix("[*]"))
        return lambda value: any(isinstance(found, list) for found in find(value))
    import jsonpath_rfc9535 as jsonpath

    *before, last = jsonpath.compile(path).segments
    if any(isinstance(selector, jsonpath.selectors.NameSelector) for selector in last.selectors):
        return lambda _: False
    query = jsonpath.JSONPathQuery(env=jsonpath.DEFAULT_ENV, segments=tuple(before))
    find_lists = _finder(query)
    return lambda value: any(isinstance(found, list) for found in find_lists(value))


def compile_first(path: str) -> Getter:
    """A function from a JSON value to the first thing that the path finds in it; None for nothing.

    Raises ValueError for a path that does not parse.
    """
    if item := re.fullmatch(r"\$\.([A-Za-z_][A-Za-z0-9_]*)\[(0|[1-9][0-9]{0,8})\]", path):
        return _item(item[1], int(item[2]))
    names = re.fullmatch(r"\$((?:\.[A-Za-z_][A-Za-z0-9_]*){1,2})", path)
    if not names:
        find = compile_path(path)
        return lambda value: next(iter(find(value)), None)
    _, *steps = names[1].split(".")
    outer = steps[0]
    inner = steps[-1]

    def one(value: Any) -> Any:
        try:
            return value[outer]
        except (KeyError, TypeError):
            return None

    def two(value: Any) -> Any:
        try:
            return value[outer][inner]  # of all that JSON holds, only an object takes a name
        except (KeyError, TypeError):
            return None

    return one if len(steps) == 1 else two


def compile_fields(paths: Mapping[str, str]) -> Fields:
    """A function from a JSON value to what each path finds first in it, as a text by its name.

    Those of names are looked up in one go. Raises ValueError for a path that does not parse.
    """
    below: dict[str, list[tuple[str, str]]] = {}  # by the name of the object that they are in: none for the value
    others: dict[str, Getter] = {}
    for name, path in paths.items():
        if names := _NAMES.fullmatch(path):
            outer, inner = names.groups()
            below.setdefault(outer if inner else "", []).append((name, inner or outer))
        else:
            others[name] = compile_first(path)
    groups = list(below.items())
    rest = fields_by(others)

    def read(value: Any) -> dict[str, str]:
        found = rest(value) if others else {}
        if type(value) is dict:
            for outer, inside in groups:
                part = value.get(outer) if outer else value
                if type(part) is dict:
                    for name, key in inside:
                        member = part.get(key)
                        if text := member.strip() if type(member) is str else as_written(member):
                            found[name] = text
        return found

    return read


def fields_by(getters: Mapping[str, Getter]) -> Fields:
    """A getter for all of these, from a getter for each."""

    def read(value: Any) -> dict[str, str]:
        return {name: member for name, get in getters.items() if (member := as_written(get(value)))}

    return read


def _item(name: str, index: int) -> Getter:
    def get(value: Any) -> Any:
        try:
            inner = value[name]
            return inner[index] if type(inner) is list else None
        except (KeyError, TypeError, IndexError):
            return None

    return get


def _all_of(find: Finder) -> Finder:
    def find_all(value: Any) -> list[Any]:
        for found in find(value):
            if isinstance(found, list):
                return found
            if isinstance(found, dict):
                return list(found.values())
        return []

    return find_all


def _getter(steps: tuple[str | int, ...]) -> Finder:
    if all(isinstance(step, str) for step in steps):
        return _by_names(steps)

    def find(value: Any) -> list[Any]:
        for step in steps:
            if isinstance(step, str):
                if not isinstance(value, dict) or step not in value:
                    return []
            elif not isinstance(value, list) or not -len(value) <= step < len(value):
                return []
            value = value[step]
        return [value]

    return find


def _by_names(names: tuple[Any, ...]) -> Finder:
    def find(value: Any) -> list[Any]:
        try:
            for name in names:
                value = value[name]  # of all that JSON holds, only an object takes a name
        except (KeyError, TypeError):
            return []
        return [value]

    return find
