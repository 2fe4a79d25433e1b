"""Without a pace: yellowtor at 32 connections against a bare aiohttp loop on the same stand-in, in turn, in each shape.

python benchmarks/throughput.py [ROUNDS]      default 5
"""

import asyncio
import csv
import json
import statistics
import sys
import time
from pathlib import Path
from types import SimpleNamespace

import aiohttp
import orjson
from common import DATA, PROGRAM, addresses, folder, lay_out, run, stand_in
from lxml import etree
from yarl import URL

from yellowtor.contracts.address import Address
from yellowtor.services.description import Description
from yellowtor.services.request_maker import RequestMaker, Wishes
from yellowtor.services.variables import find_values
from yellowtor.settings import read_settings

QUESTIONS, PARALLEL = 4_000, 32
ROUNDS = int(sys.argv[1]) if len(sys.argv) > 1 else 5
PARSE = {
    "stand-in": orjson.loads,
    "stand-in-geojson": orjson.loads,
    "stand-in-xml": etree.fromstring,
    "stand-in-text": lambda body: list(csv.reader(body.decode().splitlines(), delimiter=";")),
}


async def bare(requests, parse):
    """Requests a second of the plainest loop that sends the same requests, made beforehand, and parses the replies."""
    left = iter(requests)

    async def work(session):
        for request in left:
            url = URL(request.url, encoded=True)
            async with session.request(request.method, url, headers=request.headers, data=request.body) as reply:
                parse(await reply.read())

    started = time.perf_counter()
    async with aiohttp.ClientSession(connector=aiohttp.TCPConnector(limit=PARALLEL)) as session:
        await asyncio.gather(*(work(session) for _ in range(PARALLEL)))
    return len(requests) / (time.perf_counter() - started)


with stand_in("--pace", "0") as address:
    rows = list(addresses(QUESTIONS))
    known = {"YELLOWTOR_STANDIN": address, "YELLOWTOR_STANDIN_KEY": "demo-key-0001"}
    for shape, parse in PARSE.items():
        description = read_settings(DATA / f"{shape}.toml", Description, "service description")
        around = SimpleNamespace(environment=known, folder=DATA, input=None)
        maker = RequestMaker(description, find_values(description.variables, around, DATA), Wishes())
        requests = [maker.request(Address(street=s, town=t, postcode=p, country="XT")) for s, t, p in rows]
        ratios = []
        for _ in range(ROUNDS):
            plain = asyncio.run(bare(requests, parse))
            with folder() as name:
                lay_out(Path(name), address, pace=None, parallel=PARALLEL, rows=rows, shape=shape)
                out, _ = run(Path(name), PROGRAM, "run", "job.toml", "--json")
            asked = json.loads(out)["requests"]
            ratios.append(asked["sent"] / asked["seconds"] / plain)
        median = statistics.median(ratios)
        print(f"{shape:17} bare loop {plain:6.0f}/s   median ratio {median:.2f} (wanted: at least 0.65)")
