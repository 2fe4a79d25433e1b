"""Guesses the column of each part of an address, from names and contents.

Names are known in a dozen languages. Contents decide if names don't, or if several names fit.
"""

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

from yellowtor.addresses.latin import latin

NAMES: Mapping[str, str] = {
    "whole": "full address, whole address, address, complete address, postal address, anschrift, adresse, direccion, "
    "indirizzo, endereco, adres, adress, osoite, adresa, cim, location address",
    "number": "house number, number, no, nr, house no, street number, hausnummer, hausnr, hnr, numero, num, "
    "numero civico, civico, huisnummer, husnummer, husnr, numer domu, cislo popisne, hazszam, talonumero",
    "street": "street, street name, road, address line 1, address 1, addr1, line 1, number and street, street and "
    "number, street address, strasse, str, rue, voie, calle, via, rua, straat, straatnaam, gata, gatuadress, gade, "
    "vej, vejnavn, veg, katu, katuosoite, ulica, ulice, utca, strada, strasse und hausnummer",
    "town": "town, city, place, locality, municipality, village, post town, ort, stadt, gemeinde, wohnort, ville, "
    "commune, localite, ciudad, localidad, municipio, poblacion, citta, comune, cidade, plaats, woonplaats, stad, by, "
    "postort, poststed, kommune, kunta, kaupunki, miasto, miejscowosc, mesto, obec, varos, telepules, oras, localitate",
    "postcode": "postcode, post code, postal code, zip, zip code, zipcode, plz, postleitzahl, code postal, cp, "
    "codigo postal, cod postal, cap, cep, postnummer, postnr, postinumero, kod pocztowy, psc, iranyitoszam, eircode",
    "region": "region, state, province, county, district, bundesland, land region, kanton, canton, departement, "
    "provincia, comunidad, estado, regione, lan, fylke, maakunta, wojewodztwo, kraj region, megye, judet, island",
    "country": "country, country code, country name, land, staat, pays, pais, paese, maa, kraj, zeme, orszag, tara, "
    "iso, iso country",
    "latitude": "latitude, lat, breite, breitengrad, latitud, latitudine, leveysaste, szerokosc, y, gps lat, geo lat",
    "longitude": "longitude, lon, lng, long, laenge, lange, langengrad, laengengrad, longitud, longitudine, "
    "pituusaste, dlugosc, x, gps lon, geo lon, gps lng",
    "key": "id, key, uid, uuid, guid, code, ref, reference, record id, record no, asset id, asset no, number, no, nr, "
    "kennung, schluessel, identifier, identifiant, identificador, codice, lp, objectid, fid, gid",
    "name": "name, title, label, site, site name, facility, description, bezeichnung, titel, nom, nombre, nome, "
    "denominazione, navn, namn, nimi, nazwa, nazev, nev, denumire, object",
}
_KNOWN = {part: frozenset(map(str.strip, names.split(","))) for part, names in NAMES.items()}
ADDRESS = ("street", "town", "postcode", "number", "region", "country")
_POSTCODE = re.compile(
    r"(?:[A-Z]{1,2}-)?\d{3,6}(?:-\d{3,4})?|\d{4} ?[A-Z]{2}|\d{3} \d{2}|[A-Z]{1,2}\d[A-Z\d]? ?\d[A-Z]{2}"
)
_HOUSE = re.compile(r"\d+ ?[A-Za-z]?(?:[-/]\d+[A-Za-z]?)?")
_STREET = re.compile(r"\d+ ?[a-z]?(?:[-/]\d+)?,? +\D{3,}|\D{3,} \d+ ?[a-z]?(?:[-/]\d+)?", re.IGNORECASE)
_DEGREES = re.compile(r"[+-]?\d{1,3}(?:[.,]\d+)?")
LONGEST = 200  # characters of a cell or a name that are looked at: some patterns take longer the more there are
TITLES = 20  # rows that may stand above a header
SURE = 0.55  # from here on a guess is made
CLOSE = 0.15  # two that are nearer than this to each other may be taken for one another


@dataclass(frozen=True, slots=True)
class Guess:
    """The column of a part, the reason, and the other possible columns."""

    column: str
    why: str
    others: Sequence[str] = ()


def guess_columns(header: Sequence[str], rows: Sequence[Sequence[str]]) -> dict[str, Guess]:
    """The column of each part that there seems to be one for; each column has one part at most.

    rows are a sample of the table. The parts are those of NAMES.
    """
    named = [(at, name) for at, name in enumerate(header) if name and header.count(name) == 1]
    columns = {name: [cell for row in rows if (cell := row[at][:LONGEST].strip())] for at, name in named}
    unique = {name for name, cells in columns.items() if len(cells) == len(rows) == len(set(cells)) and rows}
    scores = {
        (part, name): score
        for part in NAMES
        for name, cells in columns.items()
        if (score := _score(part, name, cells, unique=name in unique))[0] >= SURE
    }
    found: dict[str, Guess] = {}
    taken: set[str] = set()
    for part, name in sorted(scores, key=lambda pair: -scores[pair][0]):
        if part in found or name in taken:
            continue
        best, why = scores[part, name]
        others = [n for p, n in scores if p == part and n != name and best - scores[p, n][0] < CLOSE]
        found[part] = Guess(name, why, others)
        taken.add(name)
    for part, guess in found.items():
        found[part] = replace(guess, others=[name for name in guess.others if name not in taken])
    return _sensible(found, unique, header)


def find_header(rows: Sequence[Sequence[str]]) -> tuple[int, int]:
    """Which of the first rows of a sheet is the header (from 0), and how many parts of an address are below it.

    Titles and notes may stand above it.
    """
    best = (0, 0)
    for at in range(min(TITLES, len(rows) - 1)):
        header = [cell.strip() for cell in rows[at]]
        if sum(map(bool, header)) < 2:
            continue
        below = [row for row in rows[at + 1 :] if any(row)]
        parts = sum(part in {*ADDRESS, "whole"} for part in guess_columns(header, below)) if below else 0
        if parts > best[1]:
            best = at, parts
    return best


def _sensible(found: dict[str, Guess], unique: set[str], header: Sequence[str]) -> dict[str, Guess]:
    """Consistent guesses: both coordinates or none, a whole address or its parts, a key if there is one."""
    if ("latitude" in found) != ("longitude" in found):
        found.pop("latitude", None)
        found.pop("longitude", None)
    if "whole" in found and found.keys() & {"town", "postcode"}:
        whole = found.pop("whole")
        found.setdefault("street", whole)
    elif "whole" in found:
        for part in ADDRESS[:-1]:
            found.pop(part, None)
    taken = {guess.column for part, guess in found.items() if part != "name"}
    if "key" not in found and (left := [name for name in header if name in unique and name not in taken]):
        found["key"] = Guess(left[0], "no two records have the same")
        if found.get("name", found["key"]).column == left[0]:
            found.pop("name", None)
    return found


def _score(part: str, name: str, cells: Sequence[str], *, unique: bool) -> tuple[float, str]:
    """How well a column fits a part, 0 to 1.6, and why."""
    named = _by_name(part, name)
    held = _by_content(part, cells, unique=unique)
    if held is None:  # what stands there rules it out
        return 0.0, ""
    whys = [*(["its name"] if named else []), *([_CONTENT[part]] if held > 0.5 and part in _CONTENT else [])]
    return named + 0.6 * held, " and ".join(whys)


_CONTENT = {
    "postcode": "contents like postcodes",
    "street": "contents with house numbers",
    "number": "house numbers in it",
    "latitude": "degrees in it",
    "longitude": "degrees in it",
    "key": "no two records have the same",
    "whole": "whole addresses in it",
    "country": "country codes in it",
}


def _by_name(part: str, name: str) -> float:
    """1 for a known name, less for one that contains a known name."""
    plain = latin(re.sub(r"(?<=[a-z])(?=[A-Z])|[_.\-/:#]", " ", name[:LONGEST]))
    known = _KNOWN[part]
    if plain in known or plain.replace(" ", "") in known:
        return 1.0
    words = plain.split()
    runs = {" ".join(words[i:j]) for i in range(len(words)) for j in range(i + 1, len(words) + 1)}
    best = max((len(run) for run in runs & known if len(run) > 1), default=0)
    return 0.6 + 0.3 * best / max(1, len(plain)) if best else 0.0


def _by_content(part: str, cells: Sequence[str], *, unique: bool) -> float | None:
    """How well the contents fit, 0 to 1; None if they contradict."""
    if part == "key":
        return 1.0 if unique else None
    if not cells:
        return 0.0 if part in {"latitude", "longitude"} else None
    digits = _share(cells, lambda cell: not any(map(str.isalpha, cell)))
    if part in {"latitude", "longitude"}:
        share = _share(cells, lambda cell: bool(_DEGREES.fullmatch(cell)))
        return 0.8 * share if share > 0.5 else None  # alone it can't tell the one from the other
    if part in {"town", "region", "name"}:
        return None if digits > 0.5 else 0.0
    if part == "number":
        share = _share(cells, lambda cell: bool(_HOUSE.fullmatch(cell)))
        return share * 0.6 if share > 0.7 and not unique else None
    if part == "postcode":
        share = _share(cells, lambda cell: bool(_POSTCODE.fullmatch(cell.upper())))
        return None if share < 0.6 else share if _even(cells) else 0.0
    if part == "street":
        return None if digits > 0.5 else _share(cells, lambda cell: bool(_STREET.fullmatch(cell)))
    if part == "country":
        return (
            1.0 if len(set(cells)) <= 40 and _share(cells, lambda c: bool(re.fullmatch("[A-Z]{2}", c))) > 0.9 else 0.0
        )
    whole = _share(cells, lambda cell: len(re.split(r"[,\n;]", cell)) > 2 or bool(re.search(r"\D\b\d{4,5}\b \D", cell)))
    return None if digits > 0.5 else whole


def _even(cells: Sequence[str]) -> bool:
    """Whether texts are about as long as each other, as codes are."""
    lengths = sorted(map(len, cells))
    return lengths[-1] - lengths[0] <= 4 and lengths[len(lengths) // 2] >= 4


def _share(cells: Sequence[str], fits: Callable[[str], bool]) -> float:
    return sum(map(fits, cells)) / len(cells)
