"""A coordinate system in a job or a description: one that PROJ knows."""

from typing import Annotated

from pydantic import AfterValidator

from yellowtor.answers.geography.projection import Projection


def _known(code: str) -> str:
    Projection(code)
    return code


SystemCode = Annotated[str, AfterValidator(_known)]
