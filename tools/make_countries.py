"""Makes the tables of countries and regions: ISO 3166-1 and 3166-2 (pycountry), names in many languages (CLDR, Babel).

python tools/make_countries.py
"""

import json
from collections.abc import Iterable
from pathlib import Path

import pycountry
from babel import Locale

from yellowtor.addresses.latin import latin

TARGET = Path(__file__).parent.parent / "src" / "yellowtor" / "addresses" / "parsing" / "words" / "countries.json"
LANGUAGES = (
    "en", "de", "fr", "es", "it", "pt", "nl", "da", "sv", "nb", "fi", "pl", "cs", "sk", "hu", "ro", "bg", "hr", "sl",
    "sr", "et", "lv", "lt", "el", "tr", "ru", "uk", "is", "ga", "ca", "ja", "zh", "ko", "ar", "he",
)  # fmt: skip
OTHERS = {
    "uk": "GB", "england": "GB", "scotland": "GB", "wales": "GB", "northern ireland": "GB", "u s": "US",
    "america": "US", "holland": "NL", "eire": "IE", "brd": "DE",
}  # fmt: skip


def countries() -> dict[str, str]:
    """The alpha-2 code by each name and code, in plain Latin letters."""
    names: dict[str, str] = {}
    for language in LANGUAGES:
        for code, name in Locale.parse(language).territories.items():
            if len(code) == 2 and code.isalpha():
                names.setdefault(latin(name.replace(".", "")), code)
    for country in pycountry.countries:
        for name in (country.name, getattr(country, "official_name", ""), getattr(country, "common_name", "")):
            names.setdefault(latin(name), country.alpha_2)
        names[country.alpha_2.lower()] = names[country.alpha_3.lower()] = country.alpha_2
    names.pop("", None)
    return names | OTHERS


def regions() -> dict[str, list[str]]:
    """The ISO 3166-2 codes by each name and code of a region."""
    found: dict[str, set[str]] = {}
    for region in pycountry.subdivisions:
        for name in (region.name, region.code, region.code.partition("-")[2]):
            if not name.isdigit():
                found.setdefault(latin(name), set()).add(region.code)
    return {name: sorted(codes) for name, codes in found.items()}


def by_code(names: Iterable[tuple[str, list[str]]]) -> dict[str, list[str]]:
    """The names of each code."""
    found: dict[str, set[str]] = {}
    for name, codes in names:
        for code in codes:
            found.setdefault(code, set()).add(name)
    return {code: sorted(found[code]) for code in sorted(found)}


if __name__ == "__main__":
    made = {
        "countries": by_code((name, [code]) for name, code in countries().items()),
        "regions": by_code(regions().items()),
    }
    made["parents"] = {region.code: [region.parent_code] for region in pycountry.subdivisions if region.parent_code}
    lines = (
        f'"{kind}": {{\n' + ",\n".join(f'"{code}": {json.dumps(names)}' for code, names in found.items()) + "\n}"
        for kind, found in made.items()
    )
    TARGET.write_text("{\n" + ",\n".join(lines) + "\n}\n", encoding="utf-8")
    print(f"{len(made['countries']):,} countries, {len(made['regions']):,} regions")
