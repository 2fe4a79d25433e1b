"""Makes the tables of countries and regions: ISO 3166-1 and 3166-2 (pycountry), names in many languages (CLDR, Babel).

python tools/make_countries.py
"""

import json
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
    "uk": "GB", "england": "GB", "scotland": "GB", "wales": "GB", "northern ireland": "GB", "u s": "US", "america": "US",
    "holland": "NL", "eire": "IE", "brd": "DE",
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


if __name__ == "__main__":
    made = {"countries": countries(), "regions": regions()}
    TARGET.write_text(json.dumps(made, ensure_ascii=False, sort_keys=True, indent=0) + "\n", encoding="utf-8")
    print(f"{len(made['countries']):,} names of countries, {len(made['regions']):,} of regions")
