"""Fits the weights of confidence on made-up worlds, and writes src/yellowtor/answers/judging/model.json.

python tools/fit_confidence.py [RECORDS]      default 60000; takes some minutes

The seeds, countries, errors and services here are not those of benchmarks/trust.py. No real address is used.
"""

import json
import random
import sys
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

import numpy as np
from scipy.optimize import minimize
from sklearn.isotonic import IsotonicRegression

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT / "benchmarks"))

from trust_world import ERRORS, Record, Service, place_name, record, world  # noqa: E402

from yellowtor.addresses.keys import digest  # noqa: E402
from yellowtor.answers.geography.levels import LEVELS, Method  # noqa: E402
from yellowtor.answers.judging.confidence import Model  # noqa: E402
from yellowtor.answers.judging.evidence import Evidence, choose, evidence_alone  # noqa: E402
from yellowtor.answers.judging.features import FEATURES, features  # noqa: E402
from yellowtor.answers.replies.candidate import Candidate  # noqa: E402
from yellowtor.contracts.position import Position, distance_m  # noqa: E402

TARGET = ROOT / "src" / "yellowtor" / "answers" / "judging" / "model.json"
ROUNDS = 3
LEAST, STRONGEST = 1 / 3, 14.0  # of a weight: of its prior, and in all
PULL = 2.0  # how strongly a weight is drawn to its prior: as some records would
PRIOR = {
    "street differs": -4, "street differs much": -10, "street missing": -3, "kind differs": -3, "direction differs": -3,
    "number near": -3, "number differs": -3, "number gap": -2, "number missing": -2, "town differs": -1.5,
    "town differs much": -2, "town missing": -1, "postcode differs": -2, "postcode missing": -0.3, "region differs": -2,
    "country differs": -7, "country unknown": -0.3, "place unconfirmed": -6, "unexplained": -2, "coarse": -1.5,
    "coarse as asked": -0.15, "level missing": -2, "interpolated": -2, "level unknown": -0.3, "partial": -0.7,
    "low score": -1, "rivals": -1.5, "place differs": -10, "place differs much": -6, "finer than asked": -6,
    "place region differs": -6, "street only": -1.5, "number not asked": -1.5, "postcode area differs": -1.5,
    "place unexplained": -8,
}  # fmt: skip


@dataclass(frozen=True)
class Question:
    """A record with the candidates of a service, and the tolerance in metres."""

    record: Record
    candidates: list[Candidate]
    tolerance_m: float
    manner: str
    alone: list[Evidence]


def candidate(shown: dict) -> Candidate:
    lat, lon = shown["at"]
    return Candidate(
        Position(lat, lon), LEVELS.get(shown["level"]), Method(shown["method"]), shown["label"], shown["parts"],
        score=shown["score"],
    )  # fmt: skip


def questions(seed: int, countries, manners, errors, count: int):
    """Records of one world asked of several services."""
    made = world(seed, tuple(countries))
    services = [(manner, Service(made, manner, seed + n)) for n, manner in enumerate(manners)]
    r = random.Random(seed * 7 + 1)
    for _ in range(count):
        manner, service = r.choice(services)
        if r.random() < 0.12:
            one, _ = place_name(r, made)
            tolerance = r.choice([250.0, 500.0, 1000.0, 2000.0, 5000.0])
        else:
            some = tuple(r.sample(errors, r.choice([0, 1, 2, 3, len(errors)])))
            one = record(r, made, some, rate=r.choice([0.15, 0.3, 0.6]))
            tolerance = r.choice([50.0, 100.0, 100.0, 200.0])
        found = [candidate(shown) for shown in service.find(one.asked)]
        if found:
            alone = [evidence_alone(one.asked, c, None) for c in found]
            yield Question(one, found, tolerance, manner, alone)


def is_right(asked: Question, chosen: Candidate) -> bool:
    return (
        asked.record.truth is not None
        and distance_m(Position(*asked.record.truth), chosen.position) <= asked.tolerance_m
    )


def evidence_of(asked: Question, model: Model) -> tuple[Candidate, Evidence]:
    def fit(one: Evidence) -> float:
        return model.log_odds([f for f in features(one, asked.tolerance_m) if f.name != "rivals"])

    return choose(asked.candidates, asked.alone, asked.tolerance_m, fit)


def table(all_asked, model: Model):
    rows = np.zeros((len(all_asked), len(FEATURES)))
    right = np.zeros(len(all_asked))
    shares = np.ones(len(all_asked))
    for n, asked in enumerate(all_asked):
        best, evidence = evidence_of(asked, model)
        for one in features(evidence, asked.tolerance_m):
            rows[n, FEATURES.index(one.name)] += one.amount
        right[n] = is_right(asked, best)
        shares[n] = evidence.share
    return rows, right, shares


def fitted(rows, right) -> tuple[float, dict[str, float]]:
    """Weights near those of PRIOR where the data say little."""
    prior = np.array([-PRIOR[name] for name in FEATURES])

    def loss(w):
        z = w[0] - rows @ w[1:]
        p = np.logaddexp(0, -z) * right + np.logaddexp(0, z) * (1 - right)
        d = 1 / (1 + np.exp(-z)) - right
        grad = np.concatenate([[d.sum()], -(rows.T @ d)])
        off = w[1:] - prior
        return p.sum() + PULL * (off**2).sum(), grad + np.concatenate([[0], 2 * PULL * off])

    start = np.concatenate([[4.0], prior])
    bounds = [(None, 9.0), *((LEAST * usual, STRONGEST) for usual in prior)]
    found = minimize(loss, start, jac=True, method="L-BFGS-B", bounds=bounds, options={"maxiter": 500})
    return float(found.x[0]), {name: -round(float(w), 4) for name, w in zip(FEATURES, found.x[1:], strict=True)}


def curve(model: Model, rows, right):
    """A rising curve from log-odds to the share of right answers, with few points."""
    weights = np.array([model.weights[name] for name in FEATURES])
    odds = model.intercept + rows @ weights
    isotonic = IsotonicRegression(y_min=0.001, y_max=0.9995, out_of_bounds="clip").fit(odds, right)
    cuts = np.unique(np.quantile(odds, np.concatenate([np.linspace(0, 1, 31), [0.985, 0.995]])))
    points = []
    for low, high in pairwise(cuts):
        inside = (odds >= low) & (odds <= high)
        if inside.sum() >= 30:
            points.append(
                (round(float(odds[inside].mean()), 3), round(float(isotonic.predict(odds[inside]).mean()), 4))
            )
    rising = [points[0]]
    for x, y in points[1:]:
        if x > rising[-1][0]:
            rising.append((x, max(y, rising[-1][1])))
    return rising


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 60_000
    countries = ["US", "GB", "DE", "FR", "ES", "DK", "PL", "SE"]
    manners = ["best five", "strict", "coarse", "lying", "label", "no level", "single", "no score"]
    errors = [kind for kind in ERRORS if kind != "wrong number"]
    all_asked = [q for seed in (11, 12, 13, 14) for q in questions(seed, countries, manners, errors, count // 4)]
    model = Model("", 6.0, PRIOR, [])
    for at in range(ROUNDS):
        rows, right, _ = table(all_asked, model)
        intercept, weights = fitted(rows, right)
        model = Model("", intercept, weights, [])
        print(f"round {at + 1}: {len(right):,} answers, {right.mean():.3f} right, intercept {intercept:.2f}")
    held = [q for seed in (21, 22) for q in questions(seed, countries, manners, errors, count // 4)]
    rows, right, _ = table(held, model)
    points = curve(model, rows, right)
    version = f"fit-{digest(json.dumps([intercept, weights, points]))[:8]}"
    TARGET.write_text(
        json.dumps(
            {"version": version, "intercept": round(intercept, 4), "weights": weights, "curve": points}, indent=1
        )
        + "\n"
    )
    for name, weight in sorted(weights.items(), key=lambda item: item[1]):
        print(f"{weight:8.2f}  {name}")


if __name__ == "__main__":
    main()
