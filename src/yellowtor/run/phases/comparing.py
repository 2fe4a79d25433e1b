"""Finds what the answers to a job's records say of each other."""

from yellowtor.answers.judging.other_records import FEW, FINE, OtherRecords, StreetCount, far_from_the_others
from yellowtor.run.ports import ComparisonBook


def compare(book: ComparisonBook) -> int:
    """Compare all answers with each other; how many are to be judged again because of it."""
    found: dict[int, OtherRecords] = {}
    for addresses in book.with_one_point(FEW, FINE):
        count = StreetCount()
        numbers = []
        for number, asked in addresses:
            numbers.append(number)
            count.add(asked)
        if count.streets:
            found |= dict.fromkeys(numbers, OtherRecords(count.streets))
    for points in book.towns():
        for number, away_m in far_from_the_others(points):
            found[number] = found.get(number, OtherRecords())._replace(away_m=away_m)
    return book.note(found)
