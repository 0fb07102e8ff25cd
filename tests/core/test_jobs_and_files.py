"""Jobs end once, breathe where they are long, and files are written whole or not at all."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
import time
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray

from attentive_lens.core.files import is_alive, of_this_process, part_of, remove_leftovers, shown, write_text
from attentive_lens.core.jobs import Job, Progress, Stopped, breathe, finish, inside, on_breath
from attentive_lens.core.keeping import keep, key_of, stored
from attentive_lens.core.random import random_generator
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadFile


@pytest.fixture(autouse=True)
def no_breath_left() -> Iterator[None]:
    yield
    on_breath(None)


def counting(to: int) -> Job[int]:
    for k in range(to):
        yield Progress(k, to, "counting")
    return to


@given(st.integers(0, 20))
def test_a_job_s_result_is_what_it_returns(to: int) -> None:
    assert finish(counting(to)) == to


def test_a_job_that_fails_fails_with_its_own_error() -> None:
    def failing() -> Job[None]:
        yield Progress(0, 1)
        raise BadFile("It", "broke", "Mend it")

    with pytest.raises(BadFile, match="broke"):
        finish(failing())


def test_arithmetic_breathes_between_its_pieces_in_the_order_it_returns() -> None:
    breaths: list[int] = []
    on_breath(lambda: breaths.append(1))
    breathe()
    assert len(breaths) == 1
    with ThreadPool(3) as thread_pool:
        assert thread_pool.each(lambda k: k * k, 50) == [k * k for k in range(50)]
    assert len(breaths) > 3


def test_whoever_no_longer_wants_a_result_ends_the_arithmetic_inside() -> None:
    begun: list[int] = []

    def end() -> None:
        if len(begun) >= 10:
            raise Stopped

    on_breath(end)
    with ThreadPool(2) as thread_pool, pytest.raises(Stopped):
        thread_pool.each(begun.append, 1000)
    assert 10 <= len(begun) < 100
    on_breath(None)
    with ThreadPool(2) as again:
        assert again.each(lambda k: k, 4) == [0, 1, 2, 3]


def test_whoever_waits_for_threads_breathes_and_may_end_them() -> None:
    waiting, begun = threading.Event(), []
    breaths: list[int] = []

    def slow(k: int) -> int:
        begun.append(k)
        waiting.wait(5)
        return k

    def breath() -> None:
        breaths.append(1)
        if len(breaths) >= 5:
            waiting.set()

    on_breath(breath)
    with ThreadPool(2) as thread_pool:
        assert thread_pool.each(slow, 3) == [0, 1, 2]
        assert len(breaths) >= 5
        waiting.clear()

        def end() -> None:
            if len(begun) > 3:
                waiting.set()
                raise Stopped

        on_breath(end)
        with pytest.raises(Stopped):
            thread_pool.each(slow, 8)
        done = len(begun)
        time.sleep(0.05)
        assert len(begun) == done, "nothing goes on behind its back"


def test_only_the_thread_that_asked_breathes() -> None:
    breaths: list[int] = []
    on_breath(lambda: breaths.append(threading.get_ident()))
    other = threading.Thread(target=breathe)
    other.start()
    other.join()
    assert breaths == []
    breathe()
    assert breaths == [threading.get_ident()]


@dataclass(frozen=True)
class Found:
    """Something worth keeping."""

    name: str
    values: NDArray[np.float32]


def test_a_result_is_kept_under_the_key_of_its_inputs_and_no_other(tmp_path: Path) -> None:
    source = tmp_path / "source"
    source.write_text("one")
    file = tmp_path / "deep" / "er" / "kept.npz"
    key = key_of("found", source, 3)
    keep(file, Found("a", np.ones(3, np.float32)), key)
    again = stored(file, Found, key)
    assert again is not None
    assert again.values.tolist() == [1, 1, 1]
    source.write_text("other")
    assert key_of("found", source, 3) != key
    assert stored(file, Found, key_of("found", source, 3)) is None
    assert key_of("found", tmp_path / "none") == key_of("found", tmp_path / "none")


@pytest.mark.parametrize("content", [b"", b"half a file", b"PK\x03\x04 and then nothing"])
def test_a_damaged_kept_result_is_none(content: bytes, tmp_path: Path) -> None:
    file = tmp_path / "kept.npz"
    keep(file, Found("a", np.ones(3, np.float32)), "k")
    file.write_bytes(content)
    assert stored(file, Found, "k") is None
    keep(file, Found("b", np.ones(1, np.float32)), "k")
    assert stored(file, Found, "k") is not None


def test_where_nothing_may_be_written_nothing_is_kept_and_nobody_is_disturbed(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("x")
    keep(tmp_path / "file" / "kept.npz", Found("a", np.ones(3, np.float32)), "k")
    assert stored(tmp_path / "file" / "kept.npz", Found, "k") is None
    assert [own.name for own in tmp_path.iterdir()] == ["file"]


def test_a_text_file_is_written_whole_or_stays_as_it_was(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    file = tmp_path / "plan.toml"
    write_text(file, "first")
    write_text(file, "second")
    assert file.read_text("utf-8") == "second"
    assert [own.name for own in tmp_path.iterdir()] == ["plan.toml"]

    def full(_: int) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(BadFile, match="no space left"):
        write_text(file, "third")
    assert file.read_text("utf-8") == "second"
    assert [own.name for own in tmp_path.iterdir()] == ["plan.toml"]


def test_only_what_dead_processes_were_writing_is_removed(tmp_path: Path) -> None:
    done = subprocess.Popen([sys.executable, "-c", ""])
    done.wait()
    assert not is_alive(done.pid)
    assert is_alive(os.getpid())
    mine = part_of(tmp_path / "plan.toml")
    theirs = [f".plan.toml.{done.pid}", f".base.sqlite.{done.pid}-wal", f".model.{done.pid}.part"]
    others = ["plan.toml", ".hidden", "a.123", ".x.notanumber"]
    for name in (mine.name, *theirs, *others):
        (tmp_path / name).write_text("x")
    (tmp_path / f".folder.{done.pid}").mkdir()
    removed = remove_leftovers(tmp_path)
    assert sorted(removed) == sorted([*theirs, f".folder.{done.pid}"])
    assert sorted(own.name for own in tmp_path.iterdir()) == sorted([mine.name, *others])
    assert remove_leftovers(tmp_path / "nowhere") == []


@given(st.text())
def test_a_name_that_is_printed_steers_no_terminal(text: str) -> None:
    assert shown(text).isprintable()
    if text.isprintable():
        assert shown(text) == text


def test_bytes_that_are_no_text_are_printed_as_escapes() -> None:
    assert shown(os.fsdecode(b"grain\xff.png")) == "grain\\udcff.png"
    assert shown("a\x1b[31mb") == "a\\x1b[31mb"


@given(st.integers(0, 2**63), st.lists(st.integers(0, 2**31), max_size=3), st.integers(1, 50))
def test_random_numbers_do_not_depend_on_how_many_were_drawn(seed: int, places: list[int], count: int) -> None:
    many = random_generator(seed, "order", *places).random(count + 5)
    assert random_generator(seed, "order", *places).random(count).tolist() == many[:count].tolist()
    assert random_generator(seed, "other", *places).random(3).tolist() != many[:3].tolist()


def test_random_numbers_have_three_places_at_most() -> None:
    with pytest.raises(ValueError, match="three places"):
        random_generator(0, "order", 1, 2, 3, 4)


def test_random_numbers_are_those_of_the_published_generator_for_the_key() -> None:
    key = np.array([5, zlib.crc32(b"order")], np.uint64)
    published = np.random.Generator(np.random.Philox(key=key, counter=np.array([0, 7, 8, 0], np.uint64)))
    ours = random_generator(5, "order", 7, 8)
    assert ours.random(9).tolist() == published.random(9).tolist()
    assert ours.integers(0, 1000, 9).tolist() == published.integers(0, 1000, 9).tolist()


def test_a_job_inside_another_tells_its_progress_without_its_own_results() -> None:
    def part() -> Job[int]:
        yield Progress(1, 2, "a part", so_far="half of it")
        return 7

    job, result = inside(part()), []
    try:
        while True:
            result.append(next(job))
    except StopIteration as end:
        assert end.value == 7
    assert result == [Progress(1, 2, "a part")]


def test_a_folder_of_this_process_is_nobody_else_s_and_what_the_dead_left_is_removed(tmp_path: Path) -> None:
    own = of_this_process(tmp_path, "trial")
    own.mkdir()
    (tmp_path / "trial-99999999" / "0001").mkdir(parents=True)
    (tmp_path / "trial-1").mkdir()
    (tmp_path / "trial-of-grains").mkdir()
    assert of_this_process(tmp_path, "trial") == own
    assert sorted(each.name for each in tmp_path.iterdir()) == sorted(["trial-1", "trial-of-grains", own.name])
