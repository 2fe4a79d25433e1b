"""Reading a reply of five candidates by 13 fields, with singular paths: against the JSONPath library alone.

python benchmarks/reading.py
"""

import re
import statistics
import time
import tomllib

import jsonpath_rfc9535
import orjson
from common import DATA

from yellowtor.answers.replies.reading import read_reply
from yellowtor.services.description import Description
from yellowtor.settings import check_settings

TIMES, ROUNDS = 400, 7
text = re.sub(r"box = .*", 'box = ["$.frame"]', (DATA / "stand-in.toml").read_text())
data = tomllib.loads(text.replace("[reply.levels]", '[reply.extra]\ncode = "$.code"\n[reply.levels]'))
description = check_settings(data, Description, "service description")
reading = description.reply.reading()
place = {
    "words": "14 Kelp Lane, 00412 Torvik", "precision": "door", "code": "a1", "spot": {"north": 47.5, "east": -28.5},
    "frame": [-28.6, 47.4, -28.4, 47.6],
    "bits": {"no": "14", "way": "Kelp Lane", "settlement": "Torvik", "post": "00412", "district": "North",
             "nation": "Isles", "nation_code": "XT"},
}  # fmt: skip
body = orjson.dumps({"verdict": "found", "places": [place | {"words": f"{n} Kelp Lane"} for n in range(5)]})
paths = list(description.reply.paths().values())
candidates = jsonpath_rfc9535.compile(description.reply.candidates)
queries = [jsonpath_rfc9535.compile(path) for path in paths]


def plain():
    for node in candidates.find(orjson.loads(body)):
        for query in queries:
            next(iter(query.find(node.value)), None)


def seconds(work):
    started = time.perf_counter()
    for _ in range(TIMES):
        work()
    return time.perf_counter() - started


assert len(read_reply(reading, 200, body).candidates) == 5
ratios = [seconds(plain) / seconds(lambda: read_reply(reading, 200, body)) for _ in range(ROUNDS)]
speed = TIMES / seconds(lambda: read_reply(reading, 200, body))
print(
    f"a reply of 5 candidates, {len(paths)} fields: {speed:,.0f} a second, {statistics.median(ratios):.1f} times the "
    "JSONPath library (wanted: at least 5)"
)
