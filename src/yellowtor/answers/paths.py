"""JSONPath (RFC 9535), with the paths that descriptions are made of turned into plain getters.

A path of names and indexes, and one that ends in [*] after them, is read more than ten times as fast that
way; the library reads all others, and the tests hold the getters against it.
"""

from collections.abc import Callable
from typing import Any

import jsonpath_rfc9535 as jsonpath
from jsonpath_rfc9535.segments import JSONPathChildSegment
from jsonpath_rfc9535.selectors import IndexSelector, NameSelector, WildcardSelector

Finder = Callable[[Any], list[Any]]


def compile_path(path: str) -> Finder:
    """A function from a JSON value to the list of what the path finds in it.

    Raises ValueError for a path that does not parse.
    """
    try:
        query = jsonpath.compile(path)
    except jsonpath.JSONPathError as error:
        raise ValueError(f"{path!r} is not a JSONPath of RFC 9535: {error}") from error
    steps: list[str | int] = []
    for at, segment in enumerate(query.segments):
        selector = segment.selectors[0]
        if not isinstance(segment, JSONPathChildSegment) or len(segment.selectors) != 1:
            break
        if isinstance(selector, WildcardSelector) and at == len(query.segments) - 1:
            return _all_of(_getter(tuple(steps)))
        if not isinstance(selector, NameSelector | IndexSelector):
            break
        steps.append(selector.name if isinstance(selector, NameSelector) else selector.index)
    else:
        return _getter(tuple(steps))
    return lambda value: [node.value for node in query.find(value)]


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
