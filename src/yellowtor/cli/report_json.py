"""The report of a run as JSON."""

import json
from dataclasses import asdict
from typing import Any

from yellowtor.answers.judging.causes import CAUSES, OTHER
from yellowtor.run.asking.ask_result import AskResult
from yellowtor.run.parts import Summary
from yellowtor.run.phases.row_reader import shown_key
from yellowtor.run.phases.write_result import Changes
from yellowtor.run.plan import Plan
from yellowtor.run.shared_run import SharedRun


def along_json(along: SharedRun) -> str:
    asked = along.asked
    facts = {"sent": asked.sent, "settled": sum(turn.settled for turn in asked.turns), "left_alone": along.left_alone}
    return json.dumps(facts, indent=2)


def summary_json(summary: Summary, indent: int | None = 2) -> str:
    """The summary of a run, for machines."""
    asked = summary.asked
    stopped = summary.asked.stopped
    data: dict[str, Any] = {
        "records": summary.scan.records,
        "outcomes": {outcome.value: count for outcome, count in summary.outcomes.items()},
        "scan": {name: getattr(summary.scan, name) for name in ("records", "new", "changed", "vanished")},
        "coordinates": {finding.value: asdict(found) for finding, found in summary.scan.findings.items()},
        "plan": plan_json(summary.plan),
        "requests": {
            "sent": asked.sent,
            "searched": asked.searched,
            "again": asked.retried,
            "seconds": round(asked.seconds, 3),
            "by_kind": {kind.value: count for kind, count in asked.kinds.items()},
        },
        "services": [_turn_json(turn) for turn in asked.turns],
        "placed_by": summary.placed_by,
        "credits": summary.credits,
        "doubts": [
            {"cause": c.cause, "records": c.records, "key": shown_key(c.key), "address": c.subject.line()}
            | {"remedy": CAUSES.get(c.cause, OTHER).remedy}
            for c in summary.causes
        ],
        "stopped_by": stopped and stopped.stopped_by,
        "resets_at": (stopped and stopped.resets_at) or None,
        "interrupted": asked.interrupted,
        "cut_in_flight": list(summary.abandoned),
        "would_change": summary.changes and _changes_json(summary.changes),
        "written": summary.wrote and asdict(summary.wrote),
        "files": [*filter(None, [summary.folder]), *map(str, summary.files)],
        "backup": summary.backup and str(summary.backup),
    }
    return json.dumps(data, indent=indent, ensure_ascii=False)


def plan_json(plan: Plan) -> dict[str, Any]:
    """A plan, for machines: without the curves of its forecasts."""
    data = asdict(plan)
    for forecast in (data["forecast"], *(later["forecast"] for later in data["later"])):
        del forecast["curve"]
        forecast["goes_on_at"] = forecast["goes_on_at"] and forecast["goes_on_at"].isoformat(timespec="seconds")
    return data | {"ends_at": plan.ends_at or None}


def _turn_json(turn: AskResult) -> dict[str, Any]:
    return {
        "name": turn.service,
        "sent": turn.sent,
        "searched": turn.searched,
        "again": turn.retried,
        "settled": turn.settled,
        "cost_millionths": turn.cost,
        "currency": turn.currency or None,
        "seconds": round(turn.seconds, 3),
        "by_kind": {kind.value: count for kind, count in turn.kinds.items()},
        "differences": list(turn.differences),
        "left_open": dict(turn.left_open),
        "stopped_by": turn.stopped_by,
        "message": turn.message,
        "resets_at": turn.resets_at or None,
    }


def _changes_json(changes: Changes) -> dict[str, Any]:
    return {
        "records": changes.records,
        "cells": changes.cells,
        "first": [change._asdict() for change in changes.first],
    }
