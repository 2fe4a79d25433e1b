"""What leaves a ledger for another one: replies with their provenance, and decisions about addresses."""

import zlib
from collections.abc import Sequence
from typing import Any

from sqlalchemy import Connection, Select, select

from yellowtor.addresses.keys import subject_key
from yellowtor.answers.cache_entry import Exported
from yellowtor.contracts.subject import read_subject
from yellowtor.ledger.jobs.corrections import corrections_of
from yellowtor.ledger.storage.schema import address, answer, asking, job, pin, question, reply, request, run
from yellowtor.ledger.storage.stored_text import read_mapping

PAGE = 2_000


def export_query() -> Select[Any]:
    """Every reply with its provenance, and the point of the first job that was judged by it."""
    source = (
        reply.join(question, question.c.key == reply.c.question_key)
        .join(address, address.c.id == question.c.address_id)
        .join(asking, asking.c.id == question.c.asking_id)
        .join(request, request.c.id == reply.c.request_id)
        .join(run, run.c.id == request.c.run_id)
        .join(job, job.c.id == run.c.job_id)
    )
    mine = answer.c.job_id.in_(select(job.c.id)) & (answer.c.address_id == question.c.address_id)  # its index
    judged = mine & (answer.c.reply_id == reply.c.id)
    point = [
        select(column).where(judged).order_by(answer.c.job_id).limit(1).scalar_subquery()
        for column in (answer.c.lat, answer.c.lon)
    ]
    return (
        select(
            reply.c.id,
            address.c.parts,
            address.c.key,
            *point,
            question.c.key,
            asking.c.key,
            reply.c.service,
            reply.c.kind,
            reply.c.status,
            reply.c.message,
            reply.c.headers,
            reply.c.body,
            reply.c.received_at,
            request.c.cost,
            request.c.attempt,
            job.c.path,
            run.c.who,
            run.c.host,
        )
        .select_from(source)
        .order_by(reply.c.id)
        .limit(PAGE)
    )


def exported(row: Sequence[Any]) -> Exported:
    one = Exported._make([*row, "", None])
    return one._replace(subject=read_subject(row[0]), headers=read_mapping(row[10]), body=zlib.decompress(row[11]))


def exported_decisions(connection: Connection) -> list[Exported]:
    """Every pin on an address, and every correction."""
    pins = select(address.c.parts, pin.c.address_key, pin.c.lat, pin.c.lon, pin.c.who, pin.c.why, pin.c.pinned_at)
    pinned = connection.execute(pins.join(address, address.c.key == pin.c.address_key)).all()
    found = [Exported(read_subject(row[0]), *row[1:4], who=row[4], why=row[5], received_at=row[6]) for row in pinned]
    found += [
        Exported(
            one.asked,
            subject_key(one.asked),
            None,
            None,
            who=one.who,
            why=one.why,
            received_at=one.made_at,
            corrected=one.corrected,
        )
        for one in corrections_of(connection)
    ]
    return found
