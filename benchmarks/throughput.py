"""Without a pace: yellowtor at 32 connections against a bare aiohttp loop on the same stand-in, in turn.

python benchmarks/throughput.py
"""

import asyncio
import json
import statistics
import time
from pathlib import Path

import aiohttp
from common import PROGRAM, addresses, folder, lay_out, run, stand_in

QUESTIONS, PARALLEL, ROUNDS = 4_000, 32, 7


async def bare(address, rows):
    """Requests a second of the plainest loop that sends the same questions and parses the JSON."""
    questions = iter([f"{street}, {postcode} {town}, XT" for street, town, postcode in rows])

    async def work(session):
        for question in questions:
            query = {"q": question, "limit": "5", "key": "demo-key-0001"}
            async with session.get(f"{address}/find", params=query) as reply:
                json.loads(await reply.read())

    started = time.perf_counter()
    async with aiohttp.ClientSession(connector=aiohttp.TCPConnector(limit=PARALLEL)) as session:
        await asyncio.gather(*(work(session) for _ in range(PARALLEL)))
    return QUESTIONS / (time.perf_counter() - started)


ratios = []
with stand_in("--pace", "0") as address:
    rows = list(addresses(QUESTIONS))
    for _ in range(ROUNDS):
        plain = asyncio.run(bare(address, rows))
        with folder() as name:
            lay_out(Path(name), address, pace=None, parallel=PARALLEL, rows=rows)
            out, _ = run(Path(name), PROGRAM, "run", "job.toml", "--json")
        asked = json.loads(out)["requests"]
        ours = asked["sent"] / asked["seconds"]
        ratios.append(ours / plain)
        print(f"bare loop {plain:7.0f}/s   yellowtor {ours:7.0f}/s   ratio {ratios[-1]:.2f}")
print(f"median ratio {statistics.median(ratios):.2f}  (wanted: at least 0.5)")
