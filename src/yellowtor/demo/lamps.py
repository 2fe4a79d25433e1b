"""The demo's third source: lamp posts in front of doors, with positions as an inspector's device and pen left them.

They need the address that is there. Nothing here is real.
"""

import random

from yellowtor.standin.world import World, offset

LAMPS = 24
HEADER = ["Lamp", "North", "East", "Fault"]
FAULTS = ("dark", "flickers", "leans", "glass broken", "door open")


def make_lamps(world: World, seed: int) -> list[list[str]]:
    """Rows with a header; most are a few metres from a door, some are wrong."""
    dice = random.Random(seed * 7_919 + 3)
    rows = [HEADER]
    for number, door in enumerate(dice.sample([p for p in world.points if p.country_code == "XT"], LAMPS), 1):
        lat, lon = offset(door.lat, door.lon, dice.uniform(-3, 3), dice.uniform(-3, 3))
        rows.append([f"LP{number:02d}", f"{lat:.6f}", f"{lon:.6f}", dice.choice(FAULTS)])
    rows[5][1:3] = rows[5][2], rows[5][1]
    rows[9][1:3] = "0", "0"
    rows[14][1:3] = "46.9021", rows[14][2]
    rows[17][1:3] = [text.replace(".", ",") for text in rows[17][1:3]]
    rows[21][2] = "behind the shed"
    return rows
