"""Results kept for a while: found by equality, the oldest making room, by several threads at once."""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

from jiyuu.remembered import Remembered


@dataclass(frozen=True)
class Asked:
    """Equal by what it says, though it holds what cannot be hashed."""

    name: str
    values: dict[str, float] = field(default_factory=dict)


def test_what_is_equal_is_found_and_what_is_not_is_not():
    kept: Remembered[str] = Remembered(4)
    assert kept.get(Asked("a")) is None
    kept.keep(Asked("a", {"x": 1.0}), "one")
    kept.keep(Asked("a", {"x": 2.0}), "two")
    assert kept.get(Asked("a", {"x": 1.0})) == "one"
    assert kept.get(Asked("a", {"x": 2.0})) == "two"
    assert kept.get(Asked("a", {"x": 3.0})) is None
    kept.keep(Asked("a", {"x": 1.0}), "newer")
    assert kept.get(Asked("a", {"x": 1.0})) == "newer"


def test_the_one_asked_for_longest_ago_makes_room():
    kept: Remembered[int] = Remembered(3)
    for number in range(3):
        kept.keep(number, number)
    assert kept.get(0) == 0  # asked for again, so 1 is now the oldest
    kept.keep(3, 3)
    assert [kept.get(number) for number in range(4)] == [0, None, 2, 3]


def test_of_one_only_the_last_is_kept():
    kept: Remembered[int] = Remembered(1)
    for number in range(5):
        kept.keep(number, number)
    assert [kept.get(number) for number in range(5)] == [None, None, None, None, 4]


def test_threads_do_not_lose_each_others():
    kept: Remembered[int] = Remembered(400)

    def work(first):
        for number in range(first, first + 50):
            kept.keep(number, number)
            assert kept.get(number) == number
        return first

    with ThreadPoolExecutor(8) as pool:
        list(pool.map(work, range(0, 400, 50)))
    assert [kept.get(number) for number in range(400)] == list(range(400))
