"""Killed at any write, full disks, torn lines: what was told is on disk, and all can go on to the same bits."""

from __future__ import annotations

from pathlib import Path

import pytest
from tests.training.test_resume import EPOCHS, Killed, state, train

from attentive_lens.core.files import is_alive, part_of, remove_leftovers, write_text
from attentive_lens.errors import BadFile, LensError
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_checkpoint
from attentive_lens.training.checkpoints import Checkpoints
from attentive_lens.training.journal import Journal, JournalFault, damaged_lines, read_events


def summary(folder: Path) -> list[int]:
    """Epochs that the journal tells of and that were not taken back."""
    result: list[int] = []
    for event in read_events(folder / "journal.jsonl")[0]:
        if event["event"] == "epoch":
            result.append(event["epoch"])
    return result


def held(folder: Path) -> int:
    """Whole epochs that the checkpoint holds."""
    last = folder / "checkpoints" / "last.alens"
    return int(read_checkpoint(last).card["position"]["epoch"]) if last.exists() else 0


def retold(folder: Path) -> None:
    """What `execute` does before a run goes on: epochs that the checkpoint holds and the journal does not tell."""
    last = folder / "checkpoints" / "last.alens"
    if last.exists():
        known = summary(folder)
        with Journal(folder / "journal.jsonl") as journal:
            for epoch in read_checkpoint(last).card["untold"]:
                if epoch["epoch"] not in known:
                    journal.write("epoch", **epoch)


@pytest.fixture(scope="module")
def whole(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("whole") / "run"
    train(folder, "adam", "step")
    return folder


@pytest.mark.parametrize("before", [True, False], ids=["before it", "after it"])
@pytest.mark.parametrize("what", ["best.alens", "last.alens", "journal"])
@pytest.mark.parametrize("nth", [1, 2, 3])
def test_what_was_told_is_on_disk_wherever_a_run_is_killed(
    what: str, nth: int, before: bool, whole: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    count = [0]
    write, journal_write = ModelFile.write, Journal.write

    def at(name: str, act: object) -> None:
        if name == what:
            count[0] += 1
        if name == what and count[0] == nth and before:
            raise Killed
        act()  # type: ignore[operator]
        if name == what and count[0] == nth:
            raise Killed

    monkeypatch.setattr(ModelFile, "write", lambda self, file: at(file.name, lambda: write(self, file)))
    monkeypatch.setattr(
        Journal, "write", lambda self, event, **v: at("journal", lambda: journal_write(self, event, **v))
    )
    cut = tmp_path / "run"
    try:
        train(cut, "adam", "step")
    except Killed:
        assert max(summary(cut), default=0) <= held(cut)
    monkeypatch.undo()
    retold(cut)
    assert max(summary(cut), default=0) == held(cut)
    train(cut, "adam", "step")
    assert summary(cut) == list(range(1, EPOCHS + 1))
    assert state(cut) == state(whole)


def test_epochs_too_short_for_a_checkpoint_each_are_told_with_the_next_one(
    whole: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(Checkpoints, "keep", lambda self, learner, card, best: keep_best(self, learner, card, best))

    def keep_best(self: Checkpoints, learner: object, card: dict[str, object], best: bool) -> bool:
        if best:
            self.best, self._best_written = (learner.weights(), card), False  # type: ignore[attr-defined]
        return False

    with pytest.raises(Killed):
        train(tmp_path / "cut", "adam", "step", kill_after=10)
    assert summary(tmp_path / "cut") == []
    train(tmp_path / "run", "adam", "step")
    assert summary(tmp_path / "run") == list(range(1, EPOCHS + 1))
    assert state(tmp_path / "run") == state(whole)


def test_a_full_disk_at_the_last_write_loses_nothing(
    whole: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    write = ModelFile.write

    def full(self: ModelFile, file: Path) -> None:
        if file.name == "last.alens" and self.card["epoch"] == EPOCHS:
            raise BadFile(f"{file} could not be written", "no space left on device", "Make room")
        write(self, file)

    monkeypatch.setattr(ModelFile, "write", full)
    with pytest.raises(BadFile, match="no space left"):
        train(tmp_path / "run", "adam", "step")
    assert held(tmp_path / "run") == max(summary(tmp_path / "run")) < EPOCHS
    monkeypatch.undo()
    train(tmp_path / "run", "adam", "step")
    assert state(tmp_path / "run") == state(whole)


def test_a_journal_that_cannot_be_written_stops_a_run_only_with_a_checkpoint_and_a_sentence(
    whole: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("attentive_lens.training.loop.JOURNAL_SECONDS", -1.0)
    write = Journal.write

    def full(self: Journal, event: str, **values: object) -> None:
        if event == "batch" and values["step"] == 6:
            raise self._fault(OSError(28, "No space left on device"))
        write(self, event, **values)

    monkeypatch.setattr(Journal, "write", full)
    with pytest.raises(JournalFault, match="no space left on device"):
        train(tmp_path / "run", "adam", "step")
    position = read_checkpoint(tmp_path / "run" / "checkpoints" / "last.alens").card["position"]
    assert position["epoch"] * 4 + position["batch"] == 6, "not a step is lost"
    monkeypatch.undo()
    train(tmp_path / "run", "adam", "step")
    assert state(tmp_path / "run") == state(whole)


def test_a_full_device_is_a_sentence() -> None:
    with pytest.raises(LensError, match="no space left"), Journal(Path("/dev/full")) as journal:
        journal.write("start")


def test_a_torn_line_swallows_nothing_and_is_counted(tmp_path: Path) -> None:
    file = tmp_path / "journal.jsonl"
    with Journal(file) as journal:
        journal.write("start", epochs=2)
    with file.open("ab") as stream:
        stream.write(b'{"event": "epoch", "ep')
    with Journal(file) as journal:
        journal.write("resume", epoch=0)
        journal.write("end", state="done")
    events, _ = read_events(file)
    assert [event["event"] for event in events] == ["start", "resume", "end"]
    assert damaged_lines(file) == 1
    assert damaged_lines(tmp_path / "none") == 0


def test_what_killed_commands_left_is_removed_and_what_living_ones_write_is_not(tmp_path: Path) -> None:
    gone = next(number for number in range(40_000, 10**7) if not is_alive(number))
    left = [f".last.alens.{gone}", f".images.{gone}.npz", f".catalogue.{gone}.sqlite-wal", f".prepared-a.npy.{gone}"]
    for name in left:
        (tmp_path / name).write_bytes(b"half")
    (tmp_path / f".new.{gone}").mkdir()
    own = part_of(tmp_path / "plan.toml")
    stored = [own, tmp_path / "plan.toml", tmp_path / ".hidden", tmp_path / f"data.{gone}"]
    for file in stored:
        file.write_bytes(b"whole")
    assert sorted(remove_leftovers(tmp_path)) == sorted([*left, f".new.{gone}"])
    assert sorted(tmp_path.iterdir()) == sorted(stored)
    assert remove_leftovers(tmp_path / "none") == []


def test_a_small_file_is_written_whole_or_stays_as_it_was(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    file = tmp_path / "plan.toml"
    write_text(file, "first")
    monkeypatch.setattr("os.fsync", lambda _: (_ for _ in ()).throw(OSError(28, "No space left on device")))
    with pytest.raises(BadFile, match="no space left"):
        write_text(file, "second")
    assert file.read_text() == "first"
    assert list(tmp_path.iterdir()) == [file]
    with pytest.raises(BadFile, match="null"):
        write_text(tmp_path / "a\0b", "x")
