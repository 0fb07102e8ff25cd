"""Helpers: the same results in the same order with any number of them, whatever becomes of one."""

from __future__ import annotations

import math
import os
import time
from collections.abc import Iterator

import psutil
import pytest

from attentive_lens.core.helpers import PATIENCE, SPARE, Helper, Helpers

FEW, MANY = PATIENCE - 1, PATIENCE + 40


def children() -> list[psutil.Process]:
    """Helpers of this process; of others that ended nothing is known but that they did."""
    living = (p for p in psutil.Process().children() if p.status() != psutil.STATUS_ZOMBIE)
    return [p for p in living if "attentive_lens.core.helpers" in p.cmdline()]


def made_ready(helpers: Helpers[int, int]) -> None:
    """Give pieces, own group each, until a helper takes them."""
    limit = time.monotonic() + 60

    def pieces() -> Iterator[int]:
        while not any(helper._ready for helper in helpers._all):
            assert time.monotonic() < limit
            yield 0
            time.sleep(0.02)

    assert len(list(helpers.each(pieces()))) >= PATIENCE


@pytest.mark.parametrize("count", [0, 1, 3])
def test_results_come_in_order_whatever_the_number_of_helpers(count: int) -> None:
    with Helpers(math.factorial, count) as helpers:
        assert list(helpers.each(range(MANY))) == [math.factorial(n) for n in range(MANY)]
        assert len(children()) == count
    assert not children()


def test_helpers_work_beside_this_process_and_only_where_there_is_much() -> None:
    own = os.getpgid(0)
    with Helpers(os.getpgid, 2) as helpers:
        assert set(helpers.each([0] * FEW)) == {own}
        assert not children()
    with Helpers(os.getpgid, 2) as helpers:
        made_ready(helpers)
        pids = {child.pid for child in children()}
        assert len(pids) == 2
        assert {helpers._one(0) for _ in range(MANY)} & pids, "those that are ready do it"


def test_what_a_killed_helper_had_is_done_here() -> None:
    with Helpers(os.getpgid, 1) as helpers:
        made_ready(helpers)
        assert helpers._one(0) == children()[0].pid
        children()[0].kill()
        assert set(helpers.each([0] * FEW)) == {os.getpgid(0)}
        assert not helpers._all[0].is_ready(), "it is asked no more"


def test_what_a_helper_raises_is_raised_here_and_it_goes_on() -> None:
    helper = Helper(int)
    try:
        while not helper.is_ready():
            time.sleep(0.01)
        assert helper.do("12") == (True, 12)
        done, error = helper.do("twelve")
        assert not done
        assert isinstance(error, ValueError)
        assert helper.do("13") == (True, 13)
    finally:
        helper.close()
    with Helpers(os.getpgid, 1) as helpers:
        made_ready(helpers)
        with pytest.raises(OSError, match="No such process"):
            helpers._one(-1)
        assert helpers._one(0) == children()[0].pid, "it is asked again"
    assert not children()


def test_a_helper_that_takes_too_long_is_given_up() -> None:
    helper = Helper(time.sleep)
    try:
        assert helper.do(0.0, 60.0) == (True, None), "whether or not it was ready"
        with pytest.raises(TimeoutError, match=r"more than 0\.2 seconds"):
            helper.do(60.0, 0.2)
    finally:
        helper.close()
    assert not children()


def test_one_that_cannot_be_begun_is_missed_by_nobody(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("attentive_lens.core.helpers.sys.executable", "/nowhere/python")
    with Helpers(math.factorial, 2) as helpers:
        assert list(helpers.each(range(MANY))) == [math.factorial(n) for n in range(MANY)]


def test_no_more_is_taken_than_is_worked_on_soon() -> None:
    taken = 0

    def pieces() -> Iterator[int]:
        nonlocal taken
        for number in range(MANY):
            taken += 1
            yield number

    with Helpers(math.factorial, 0) as helpers:
        for number, _ in enumerate(helpers.each(pieces()), 1):
            assert taken <= number + 2 + SPARE
