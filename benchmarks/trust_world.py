"""Made-up countries, records with errors, and services of different quality, to fit and to measure confidence.

Everything is drawn from a seed: names are composed of syllables, the forms of addresses are those of real countries.
Nothing here uses the tool's own parsing or comparison.
"""

import random
import re
import unicodedata
from collections import defaultdict
from dataclasses import dataclass, field, replace
from math import cos

import numpy as np
from scipy.sparse import csr_matrix

from yellowtor.contracts.address import Address

# Country: code, names, kinds of streets in full and short, form of a street, number first, postcode, one word
FORMS = {
    "US": (["United States", "USA", "U.S.A.", "US"], [("Street", "St"), ("Avenue", "Ave"), ("Road", "Rd."), ("Lane", "Ln"), ("Drive", "Dr"), ("Boulevard", "Blvd"), ("Court", "Ct")], "{n} {s} {k}", "#####"),
    "GB": (["United Kingdom", "UK", "GB", "Great Britain"], [("Street", "St."), ("Road", "Rd"), ("Lane", "La."), ("Close", "Cl"), ("Terrace", "Terr."), ("Gardens", "Gdns"), ("Crescent", "Cres")], "{n} {s} {k}", "AA# #AA"),
    "DE": (["Deutschland", "Germany", "DE", "DEU"], [("straße", "str."), ("weg", "weg"), ("gasse", "g."), ("platz", "pl."), ("allee", "allee")], "{s}{k} {n}", "#####"),
    "FR": (["France", "FR", "FRA"], [("Rue", "R."), ("Avenue", "Av."), ("Boulevard", "Bd"), ("Place", "Pl."), ("Impasse", "Imp."), ("Chemin", "Ch.")], "{n} {k} {d}{s}", "#####"),
    "ES": (["España", "Spain", "ES"], [("Calle", "C/"), ("Avenida", "Avda."), ("Plaza", "Pza."), ("Paseo", "Pº"), ("Camino", "Cno.")], "{k} {d}{s}, {n}", "#####"),
    "IT": (["Italia", "Italy", "IT", "ITA"], [("Via", "V."), ("Viale", "V.le"), ("Piazza", "P.za"), ("Corso", "C.so"), ("Vicolo", "Vic.")], "{k} {d}{s}, {n}", "#####"),
    "NL": (["Nederland", "Netherlands", "NL"], [("straat", "str."), ("weg", "weg"), ("laan", "ln"), ("plein", "pln"), ("kade", "kade")], "{s}{k} {n}", "#### AA"),
    "DK": (["Danmark", "Denmark", "DK"], [("gade", "gd."), ("vej", "v."), ("allé", "alle"), ("stræde", "str.")], "{s}{k} {n}", "####"),
    "PL": (["Polska", "Poland", "PL"], [("ulica", "ul."), ("aleja", "al."), ("plac", "pl.")], "{k} {s} {n}", "##-###"),
    "CZ": (["Česko", "Czechia", "CZ"], [("ulice", "ul."), ("náměstí", "nám."), ("třída", "tř.")], "{s} {n}", "### ##"),
    "PT": (["Portugal", "PT"], [("Rua", "R."), ("Avenida", "Av."), ("Travessa", "Tv."), ("Largo", "Lg.")], "{k} {d}{s} {n}", "####-###"),
    "SE": (["Sverige", "Sweden", "SE"], [("gatan", "g."), ("vägen", "v."), ("gränd", "gr."), ("torget", "torget")], "{s}{k} {n}", "### ##"),
}  # fmt: skip
LINKS = {
    "FR": ["de la ", "du ", "des ", "", "de "],
    "ES": ["de ", "del ", "", "de la "],
    "IT": ["", "dei ", "della "],
    "PT": ["de ", "da ", "dos ", ""],
}
UNITS = {
    "US": ["Apt {u}", "#{u}", "Unit {u}", "Suite {u}", "2nd floor"], "GB": ["Flat {u}", "2nd floor left", "Unit {u}"],
    "DE": ["Whg. {u}", "2. OG links", "c/o R. Pell", "Hinterhaus"], "FR": ["1er étage", "Appt {u}", "Bât. B", "chez Mme Pell"],
    "ES": ["2º izq", "piso {u}", "3º B"], "IT": ["int. {u}", "scala B", "piano {u}"], "NL": ["{u} hoog", "bus {u}"],
    "DK": ["2. th", "st. tv", "3. sal"], "PL": ["m. {u}", "lok. {u}"], "CZ": ["byt {u}"], "PT": ["2º Dto", "3º andar"], "SE": ["lgh 110{u}", "{u} tr"],
}  # fmt: skip
NOTES = [" (back door)", " - ring twice", " (rear)", ", c/o J. Vesk", " (near the church)", ", PO Box 8", " - office"]
HEADS = [
    "Bal",
    "Cor",
    "Dres",
    "El",
    "Far",
    "Gol",
    "Hal",
    "Im",
    "Jar",
    "Kel",
    "Lun",
    "Mor",
    "Nor",
    "Ol",
    "Per",
    "Quin",
    "Ros",
    "Sil",
    "Tor",
    "Ul",
    "Ves",
    "Wil",
    "Zel",
    "Bren",
    "Mar",
    "Ter",
    "Lan",
    "San",
    "Rin",
    "Vor",
]
MIDDLES = ["", "a", "e", "in", "or", "an", "el", "ir", "o", "um"]
ACCENTED = {
    "DE": "äöü",
    "FR": "éèâ",
    "ES": "áéñ",
    "IT": "àè",
    "DK": "øåæ",
    "PL": "łóż",
    "CZ": "šěý",
    "PT": "ãçé",
    "SE": "åäö",
}
TAILS = {
    "US": ["ville", "ton", "field", "burg", " Springs"], "GB": ["ham", "ford", "wick", "bury", "-on-Sea"], "DE": ["heim", "dorf", "hausen", "berg"],
    "FR": ["ac", "ville", "y", "-sur-Mer"], "ES": ["illo", "ar", "edo", " del Río"], "IT": ["ano", "elli", "asco"], "NL": ["dam", "drecht", "veen"],
    "DK": ["by", "strup", "holm"], "PL": ["owo", "ice", "ów"], "CZ": ["ice", "ov", "ín"], "PT": ["ela", "eira", "al"], "SE": ["stad", "köping", "torp"],
}  # fmt: skip
COMMON = [
    "Main",
    "Church",
    "Mill",
    "Park",
    "Station",
    "School",
    "High",
    "North",
    "Garden",
    "Bridge",
    "1st",
    "2nd",
    "40th",
    "Saint John",
    "King",
    "Market",
    "New",
    "Green",
    "Old Mill",
    "Queen",
]


@dataclass(frozen=True)
class Street:
    id: int
    town: "Town"
    name: str  # without kind
    kind: tuple[str, str]
    link: str
    lat: float
    lon: float
    bearing: tuple[float, float]  # degrees for each number
    numbers: tuple[int, ...]
    postcode: str

    def text(self, number: str = "", *, short: bool = False) -> str:
        form = FORMS[self.town.country][2]
        made = form.format(n=number, s=self.name, k=self.kind[short], d=self.link)
        return re.sub(r"\s+", " ", made).strip(" ,")

    def at(self, number: int) -> tuple[float, float]:
        side = 0.00008 if number % 2 else -0.00008
        return self.lat + self.bearing[0] * number + side, self.lon + self.bearing[1] * number - side


@dataclass(frozen=True)
class Town:
    name: str
    region: str
    country: str
    lat: float
    lon: float
    population: int


@dataclass
class World:
    seed: int
    countries: tuple[str, ...]
    towns: list[Town] = field(default_factory=list)
    streets: list[Street] = field(default_factory=list)


def name(r: random.Random, country: str, tail: bool) -> str:
    made = (
        r.choice(HEADS)
        + r.choice(MIDDLES)
        + (r.choice(TAILS[country]) if tail else r.choice(["", "d", "n", "ro", "ta", "ler", "mann", "s"]))
    )
    if country in ACCENTED and r.random() < 0.3:
        at = r.randrange(1, len(made))
        made = made[:at] + r.choice(ACCENTED[country]) + made[at + 1 :]
    return made


def made_world(seed: int, countries: tuple[str, ...], addresses: int) -> "World":
    """A world with about this number of addresses: 43 in a street."""
    streets = max(10, min(110, round((addresses / 43 / len(countries)) ** 0.5 * 0.8)))
    return world(seed, countries, towns=max(4, round(addresses / 43 / len(countries) / streets)), streets=streets)


def world(seed: int, countries: tuple[str, ...], towns: int = 40, streets: int = 22) -> World:
    """Countries with towns, some of one name, and streets whose names are shared by many towns."""
    r = random.Random(seed)
    made = World(seed, countries)
    for nth, country in enumerate(countries):
        shared = [name(r, country, False) for _ in range(30)] + (COMMON if country in {"US", "GB"} else [])
        regions = [name(r, country, True) for _ in range(4)]
        names = [name(r, country, True) for _ in range(towns)]
        for at in range(towns):
            called = names[at] if r.random() > 0.12 else r.choice(names)
            lat, lon = -60 + 9 * nth + r.uniform(-3, 3), -150 + 22 * nth + r.uniform(-6, 6)
            if at and r.random() < 0.15:  # a neighbour
                lat, lon = made.towns[-1].lat + r.uniform(-0.05, 0.05), made.towns[-1].lon + r.uniform(-0.05, 0.05)
            town = Town(called, r.choice(regions), country, lat, lon, int(10 ** r.uniform(2.5, 6)))
            made.towns.append(town)
            codes = [_postcode(r, country, at) for _ in range(3)]
            used = set()
            for _ in range(streets):
                called = r.choice(shared) if r.random() < 0.85 else name(r, country, False)
                kind = r.choice(FORMS[country][1])
                if (called, kind) in used or (country == "CZ" and any(c == called for c, _ in used)):
                    continue
                used.add((called, kind))
                many = r.choice([12, 30, 60, 120])
                numbers = tuple(sorted(n for n in range(1, many) if r.random() < 0.8)) or (1,)
                turn = r.uniform(0, 6.28)
                step = (0.00012 * cos(turn), 0.00012 * cos(turn - 1.57))
                spread = 0.02
                made.streets.append(Street(len(made.streets), town, called, kind, r.choice(LINKS.get(country, [""])),
                    lat + r.uniform(-spread, spread), lon + r.uniform(-spread, spread), step, numbers, r.choice(codes)))  # fmt: skip
    return made


def _postcode(r: random.Random, country: str, at: int) -> str:
    form = FORMS[country][3]
    made = "".join(str(r.randrange(10)) if c == "#" else r.choice("ABCDEFGHJKLM") if c == "A" else c for c in form)
    digits = iter(f"{at:02d}")
    return "".join(next(digits, c) if c.isdigit() else c for c in made) if country != "GB" else made


# ---- records


@dataclass(frozen=True)
class Record:
    """What a table holds, where it is in truth (None: nowhere), and which errors were made."""

    asked: Address
    truth: tuple[float, float] | None
    errors: tuple[str, ...]


ERRORS = (
    "typing",
    "abbreviation",
    "missing",
    "wrong",
    "misplaced",
    "additional",
    "nowhere",
    "no number",
    "one line",
    "country",
    "case",
    "wrong number",
)


def typo(r: random.Random, text: str) -> str:
    places = [i for i, c in enumerate(text) if c.isalpha()]
    if len(places) < 4:
        return text
    at = r.choice(places[1:])
    return r.choice([text[:at] + text[at + 1 :], text[:at] + text[at] + text[at:], text[:at] + r.choice("aeioustnrl") + text[at + 1 :],
        text[: at - 1] + text[at] + text[at - 1] + text[at + 1 :]])  # fmt: skip


def record(r: random.Random, made: World, errors: tuple[str, ...], rate: float = 0.22) -> Record:
    """A record of a house with errors drawn from these kinds."""
    street = r.choice(made.streets)
    town = street.town
    number = r.choice(street.numbers)
    truth: tuple[float, float] | None = street.at(number)
    did = {
        kind
        for kind in errors
        if r.random() < (rate if kind not in {"nowhere", "wrong number"} else 0.15 if kind == "nowhere" else 0.005)
    }
    shown = str(number)
    if "additional" in did and r.random() < 0.3:
        shown += r.choice(["a", " B", "-" + str(number + 2), "/1", " bis"])
    if "nowhere" in did:
        truth = None
        far = name(r, town.country, False) + "x"
        choice = r.randrange(3 if "no number" in did else 4)
        if choice == 0:
            street = replace(street, name=far)
        elif choice == 1:
            town = replace(town, name=far + "um")
        elif choice == 2:
            other = r.choice([t for t in made.towns if t.country == town.country])
            if any(s.town is other and s.name == street.name for s in made.streets):
                street = replace(street, name=far)
            town = other
        else:
            shown = str(max(street.numbers) + r.choice([100, 400, 51]))
    parts = {"street": street.text(shown, short="abbreviation" in did), "town": town.name, "postcode": street.postcode,
             "region": town.region if r.random() < 0.25 else "", "country": FORMS[town.country][0][0]}  # fmt: skip
    if "nowhere" in did and town is not street.town:
        parts["postcode"] = ""
    if "no number" in did:
        parts["street"] = street.text("")
    if "country" in did:
        parts["country"] = r.choice([*FORMS[town.country][0], ""])
    if "typing" in did:
        part = r.choice(["street", "town"])
        parts[part] = typo(r, parts[part])
    if "missing" in did:
        for part in r.sample(["postcode", "country", "region", "town"], r.choice([1, 2])):
            parts[part] = ""
    if "wrong" in did:
        # a wrong town is a neighbour, and the postcode tells it; without a postcode the record would be of nowhere
        part = r.choice(["postcode", "region"] if "missing" in did else ["postcode", "town", "region"])
        near = r.choice(
            _neighbours(made, town) if part == "town" else [s for s in made.streets if s.town.country == town.country]
        )
        parts[part] = {"postcode": near.postcode, "town": near.town.name, "region": near.town.region}[part]
    if "wrong number" in did:
        shown = str(number + r.choice([2, 10, 20, -2]))
        parts["street"] = street.text(shown)
    if "additional" in did:
        extra = r.choice(UNITS[town.country]).format(u=r.randrange(1, 30)) if r.random() < 0.7 else ""
        parts["street"] += f", {extra}" if extra and r.random() < 0.6 else f" {extra}" if extra else r.choice(NOTES)
    if "case" in did:
        change = r.choice([str.upper, str.lower, _plain])
        parts = {part: change(text) for part, text in parts.items()}
    if "one line" in did:
        line = [parts["street"], f"{parts['postcode']} {parts['town']}".strip(), parts["region"], parts["country"]]
        line = [text for text in line if text]
        choice = r.random()
        if choice < 0.2:
            line = [line[1], line[0], *line[2:]] if len(line) > 1 else line
        return Record(Address(whole=(" " if choice > 0.9 else ", ").join(line)), truth, tuple(sorted(did)))
    if "misplaced" in did:
        choice = r.randrange(4)
        if choice == 0:
            parts["street"], parts["town"] = parts["town"], parts["street"]
        elif choice == 1:
            parts["town"] = f"{parts['postcode']} {parts['town']}".strip()
            parts["postcode"] = ""
        elif choice == 2:
            parts["street"] = f"{parts['street']}, {parts['town']}"
            parts["town"] = ""
        else:
            parts["town"] = f"{parts['town']}, {town.region}"
    return Record(Address(**parts), truth, tuple(sorted(did)))


def _neighbours(made: World, town: Town) -> list[Street]:
    """The streets of the nearest other town of the country."""
    others = {s.town for s in made.streets if s.town.country == town.country and s.town.name != town.name}
    nearest = min(others, key=lambda other: (other.lat - town.lat) ** 2 + (other.lon - town.lon) ** 2)
    return [s for s in made.streets if s.town is nearest]


def place_name(r: random.Random, made: World) -> tuple[Record, int]:
    """A bare name of a town, and how many towns have it in what is asked about."""
    town = r.choice(made.towns)
    country = FORMS[town.country][0][0] if r.random() < 0.5 else ""
    region = town.region if r.random() < 0.2 else ""
    same = [
        t
        for t in made.towns
        if t.name == town.name
        and (not country or t.country == town.country)
        and (not region or t.region == town.region)
    ]
    shown = town.name if r.random() < 0.9 else typo(r, town.name)
    whole = r.random() < 0.4
    asked = (
        Address(whole=", ".join(filter(None, (shown, region, country))))
        if whole
        else Address(town=shown, region=region, country=country)
    )
    return Record(asked, (town.lat, town.lon), ("place name",)), len(same)


def _plain(text: str) -> str:
    text = text.replace("ß", "ss").replace("ø", "o").replace("æ", "ae").replace("ł", "l")
    return "".join(c for c in unicodedata.normalize("NFKD", text) if not unicodedata.combining(c))


# ---- services


class Service:
    """Finds by trigrams of words, as search engines do, and offers candidates by its quality.

    manner: `best five` (always its five best), `strict`, `coarse` (often no house), `lying` (scores that say nothing),
    `label` (no parts), `no level`, `shuffled`.
    """

    def __init__(self, made: World, manner: str, seed: int) -> None:
        self.r = random.Random(seed)
        self.world = made
        self.manner = manner
        self.grams: dict[str, int] = {}
        lines = [f"{s.text()} {s.text()} {s.town.name} {s.postcode}" for s in made.streets] + [
            f"{t.name} {t.name} {t.region}" for t in made.towns
        ]
        rows = [self._grams(line, learn=True) for line in lines]
        indptr = np.cumsum([0, *map(len, rows)])
        indices = np.concatenate([np.fromiter(row, int) for row in rows])
        matrix = csr_matrix((np.ones(len(indices)), indices, indptr), shape=(len(rows), len(self.grams)))
        self.idf = np.log(len(rows) / (1 + np.asarray(matrix.sum(axis=0)).ravel()))
        matrix = matrix.multiply(self.idf).tocsr()
        norm = np.sqrt(np.asarray(matrix.multiply(matrix).sum(axis=1)).ravel())
        self.matrix = matrix.multiply(1 / norm[:, None]).tocsr()
        self.by_country = defaultdict(list)
        self.country = np.array([s.town.country for s in made.streets] + [t.country for t in made.towns])
        self.missing = set(self.r.sample(range(len(made.streets)), len(made.streets) // 25))

    def _grams(self, line: str, *, learn: bool = False) -> set[int]:
        words = re.findall(r"\w+", _plain(line).lower())
        grams = {f" {w} "[i : i + 3] for w in words for i in range(max(1, len(w)))} | {f"={w}" for w in words}
        if learn:
            for gram in grams:
                self.grams.setdefault(gram, len(self.grams))
        return {self.grams[g] for g in grams if g in self.grams}

    def find(self, asked: Address) -> list[dict[str, object]]:
        """Candidates as parts, level, position, score."""
        line = asked.line()
        country = next(
            (
                code
                for code, (names, *_) in FORMS.items()
                if any(re.search(rf"(?:^|[ ,]){re.escape(n.lower())}$", line.lower()) for n in names)
            ),
            "",
        )
        vector = np.zeros(len(self.grams))
        grams = list(self._grams(line))
        vector[grams] = self.idf[grams]
        fit = self.matrix @ vector / (np.linalg.norm(vector) or 1)
        if country and self.manner != "careless":
            fit = np.where(self.country == country, fit, fit * 0.3)
        numbers = re.findall(r"(?<![\w-])\d+", re.sub(r"\b\d{4,}\b|\d+(?:st|nd|rd|th|er|º|\.)", " ", line))
        wanted = int(numbers[0]) if numbers else None
        has_street = bool(asked.street or numbers or asked.whole.count(",") > 1)
        found = []
        top = np.argsort(-fit)[:8]
        for at in top:
            if self.manner == "strict" and fit[at] < 0.55 * max(fit[top[0]], 0.5):
                continue
            if at >= len(self.world.streets):
                town = self.world.towns[at - len(self.world.streets)]
                found.append((fit[at] * (0.8 if has_street else 1.4), self._town(town)))
            elif at not in self.missing:
                found.append((fit[at] * (1.0 if has_street else 0.6), self._house(self.world.streets[at], wanted)))
        found.sort(key=lambda pair: -pair[0])
        found = found[: 1 if self.manner == "single" else 5]
        if self.manner == "shuffled":
            self.r.shuffle(found)
        return [self._shown(place, score) for score, place in found]

    def _house(self, street: Street, wanted: int | None) -> dict[str, object]:
        parts = {"street": street.text(), "town": street.town.name, "postcode": street.postcode, "region": street.town.region,
                 "country": FORMS[street.town.country][0][0], "country_code": street.town.country}  # fmt: skip
        coarse = self.manner == "coarse" and self.r.random() < 0.5
        if wanted is None or coarse or (wanted not in street.numbers and self.manner in {"strict", "coarse"}):
            middle = street.numbers[len(street.numbers) // 2]
            return {"parts": parts, "level": "segment", "method": "centre", "at": street.at(middle)}
        near = min(street.numbers, key=lambda n: (abs(n - wanted), n % 2 != wanted % 2))
        if near == wanted:
            level = "building"
            at = street.at(near)
            jitter = self.r.gauss(0, 0.0001)
            return {
                "parts": parts | {"number": str(near)},
                "level": level,
                "method": "surveyed",
                "at": (at[0] + jitter, at[1] + jitter),
            }
        if street.numbers[0] < wanted < street.numbers[-1] and self.r.random() < 0.6:
            return {
                "parts": parts | {"number": str(wanted)},
                "level": "building",
                "method": "interpolated",
                "at": self._off(street.at(wanted), 0.0004),
            }
        if self.r.random() < 0.5:
            return {
                "parts": parts | {"number": str(near)},
                "level": "building",
                "method": "surveyed",
                "at": street.at(near),
            }
        middle = street.numbers[len(street.numbers) // 2]
        return {"parts": parts, "level": "segment", "method": "centre", "at": street.at(middle)}

    def _off(self, at: tuple[float, float], degrees: float) -> tuple[float, float]:
        return at[0] + self.r.gauss(0, degrees), at[1] + self.r.gauss(0, degrees)

    def _town(self, town: Town) -> dict[str, object]:
        parts = {
            "town": town.name,
            "region": town.region,
            "country": FORMS[town.country][0][0],
            "country_code": town.country,
        }
        return {
            "parts": parts,
            "level": "address area",
            "method": "centre",
            "at": (town.lat + self.r.gauss(0, 0.0007), town.lon),
        }

    def _shown(self, place: dict[str, object], fit: float) -> dict[str, object]:
        parts = dict(place["parts"])
        number = parts.get("number", "")
        first = " ".join(filter(None, (number, parts.get("street", ""))))
        label = ", ".join(
            filter(
                None, (first, f"{parts.get('postcode', '')} {parts['town']}".strip(), parts["region"], parts["country"])
            )
        )
        score = {"lying": self.r.random(), "label": None, "single": None}.get(self.manner, min(1.0, float(fit)))
        shown = {**place, "label": label, "score": score}
        if self.manner == "label":
            shown["parts"] = {}
        if self.manner == "no level":
            shown["level"] = None
        if self.manner == "no score":
            shown["score"] = None
        return shown


MANNERS = ("best five", "strict", "coarse", "lying", "label", "no level", "shuffled", "single", "careless", "no score")
