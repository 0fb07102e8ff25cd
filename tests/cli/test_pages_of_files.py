"""Files that hold several pictures: each page an image for a model of such, or the first, which is told."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path

import numpy as np
import pytest
import tifffile
from PIL import Image
from tests.cli.running import command, last_object
from tests.images.instruments import write_kind
from tests.serving.asking import Server, form

import attentive_lens
from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.data import gather, references
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.network.usual import usual_plan
from attentive_lens.desk.results.answering import Answering
from attentive_lens.desk.results.appearing import Appearing, answers_as_they_come
from attentive_lens.desk.training.executing import execute
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadFile
from attentive_lens.formats.reading import read_model
from attentive_lens.images.ahead import read_files
from attentive_lens.images.pages import each_page, parted
from attentive_lens.images.pixel_format import PixelFormat
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.images.reading import Reading
from attentive_lens.serving.decoding import read_received
from attentive_lens.serving.limits import Limits
from attentive_lens.serving.receiving import Received
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.adding import add_images

WAYS = ("images", "first")
COUNT = 4


@pytest.fixture(scope="module", params=WAYS)
def stacks(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A workspace of files of four pages, each an image or the first alone, with a run."""
    folder = tmp_path_factory.mktemp("stacks")
    source = write_kind(folder / "pictures", "pages", 5)
    made = finish(make_workspace(folder / "work", source, "", Reading(pages=request.param)))
    look = {"training.epochs": 1, "training.batch_size": 8, "preprocessing.input_size": 24, "augmentation": "none"}
    plan = usual_plan(made.workspace).changed({"network": "two blocks", **look})
    finish(execute(made.workspace, made.workspace.claim_run(plan), lambda: False))
    return folder / "work"


def each(stacks: Path) -> bool:
    return read_model(Workspace.open(stacks).run(1).model).preprocessor.pixel_format.pages == "images"


@pytest.fixture
def stack(stacks: Path) -> Path:
    return sorted((stacks.parent / "pictures").rglob("*.tif"))[0]


def names_of(file: Path, every: bool) -> list[str]:
    return [f"{file}#{number}" for number in range(1, COUNT + 1)] if every else [str(file)]


def test_predict_answers_every_page_or_says_that_it_is_the_first(stacks: Path, stack: Path, tmp_path: Path) -> None:
    model, every = Workspace.open(stacks).run(1).model, each(stacks)
    lines = [json.loads(line) for line in command("predict", model, stack, "--json").splitlines()]
    assert [line["file"] for line in lines] == names_of(stack, every)
    assert [line["pages"] for line in lines] == [1] * COUNT if every else [COUNT]
    said = command("predict", model, stack)
    assert ("the first of 4 pages" in said) is not every
    third = last_object(command("predict", model, f"{stack}#3", "--json"))
    page = read_model(model).preprocessor.picture(f"{stack}#3").pixels
    assert third["probabilities"] != last_object(command("predict", model, f"{stack}#1", "--json"))["probabilities"]
    (alone,) = attentive_lens.open_model(model).predict([f"{stack}#3"])
    assert list(alone.values()) == pytest.approx(list(third["probabilities"].values()), abs=1e-6)
    assert len(attentive_lens.open_model(model).predict(stack)) == (COUNT if every else 1)
    assert not np.array_equal(page, read_model(model).preprocessor.picture(f"{stack}#1").pixels)
    out = tmp_path / "answers.csv"
    written = command("predict", model, stack.parent, "--out", out)
    files = len(list(stack.parent.iterdir()))
    assert (f"of {files} files with several pages the first was answered" in written) is not every
    rows = list(csv.DictReader(out.read_text(encoding="utf-8").splitlines()))
    assert len(rows) == files * (COUNT if every else 1)
    assert {row["pages"] for row in rows} == {"1" if every else "4"}
    half = "\n".join(out.read_text().splitlines()[:3]) + "\n"  # broken off within a file
    out.write_text(half)
    command("predict", model, stack.parent, "--out", out, "--resume")
    again = list(csv.DictReader(out.read_text(encoding="utf-8").splitlines()))
    assert sorted(row["file"] for row in again) == sorted(row["file"] for row in rows)


def test_a_page_that_is_not_there_is_refused_by_its_number(stacks: Path, stack: Path) -> None:
    preprocessor = read_model(Workspace.open(stacks).run(1).model).preprocessor
    with pytest.raises(BadFile, match="it holds 4 pictures, and the one asked for is number 9"):
        preprocessor.picture(f"{stack}#9")
    (read,) = read_files(preprocessor, [f"{stack}#5"])
    assert isinstance(read.pixels, str)
    with pytest.raises(BadFile, match="no such file"):
        preprocessor.picture(f"{stack}#0")


def test_folders_that_are_watched_have_an_answer_for_every_page(stacks: Path, stack: Path, tmp_path: Path) -> None:
    model, every = Workspace.open(stacks).run(1).model, each(stacks)
    own = tmp_path / "in"
    own.mkdir()
    (own / "s.tif").write_bytes(stack.read_bytes())
    command("watch-folder", model, own, "--once", "--maps")
    endings = [f"#{n}" for n in range(1, COUNT + 1)] if every else [""]
    expected = {f"s.tif{ending}{beside}" for ending in endings for beside in (".answer.json", ".map.png")}
    assert {file.name for file in own.iterdir()} == {"s.tif", *expected}
    before = {file: file.stat().st_mtime_ns for file in own.iterdir()}
    command("watch-folder", model, own, "--once", "--maps")
    assert {file: file.stat().st_mtime_ns for file in own.iterdir()} == before, "what has its answer is not asked again"
    if every:
        (own / "s.tif#1.answer.json").unlink()  # as if broken off
        (own / "s.tif#2.answer.json").unlink()
        with ThreadPool(1) as thread_pool:
            answering = Answering(read_model(model), thread_pool)
            batch = next(answers_as_they_come(answering, Appearing(own), 0.1, once=True))
        assert [answer.file[-2:] for answer in batch] == ["#4", "#3", "#2", "#1"], "the first says that all are there"
        command("watch-folder", model, own, "--once")
        assert (own / "s.tif#2.answer.json").exists()
    out = tmp_path / "all.csv"
    for _ in range(2):
        command("watch-folder", model, own, "--once", "--out", out)
        assert len(list(csv.DictReader(out.read_text(encoding="utf-8").splitlines()))) == len(endings)


def test_explanations_of_a_file_name_the_page(stacks: Path, stack: Path, tmp_path: Path) -> None:
    model, every = Workspace.open(stacks).run(1).model, each(stacks)
    said = command("explain", "--model", model, stack, "--out", tmp_path / "maps")
    assert sum(line.startswith(f"{stack}#") for line in said.splitlines()) == (COUNT if every else 1)
    assert f"{stack}#1: said" in said
    assert f"{stack}#2: said" in command("try", "--model", model, f"{stack}#2", "--change", "blur")


def test_pages_are_added_to_a_workspace(stacks: Path, stack: Path, tmp_path: Path) -> None:
    place, every = Workspace.open(stacks), each(stacks)
    (third,) = add_images(place, [Path(f"{stack}#3")], "solid")
    rows = place.catalogue.images()
    assert (rows[third - 1].part, rows[third - 1].index) == ("page", 2)
    (first,) = add_images(place, [Path(f"{stack}#1")], "solid")
    assert rows[third - 1].digest != place.catalogue.images()[first - 1].digest, "of the page's own pixels"
    pixels = finish(gather(place, place.run(1).plan())).pixels
    page = read_model(place.run(1).model).preprocessor.picture
    assert np.array_equal(pixels[third - 1], page(f"{stack}#3").pixels)
    assert not np.array_equal(pixels[third - 1], page(f"{stack}#1").pixels)
    numbers = add_images(place, [stack], "solid")
    assert len(numbers) == (COUNT if every else 1)
    added = place.catalogue.images()
    assert len({place.path_of(added[number - 1]) for number in numbers}) == len(numbers), "a copy for each"


def test_a_server_answers_every_page_within_its_limits(stacks: Path, stack: Path) -> None:
    model, every = Workspace.open(stacks).run(1).model, each(stacks)
    content = stack.read_bytes()
    with Server(model) as server:
        kind, body = form([("s.tif", content), ("p.tif", one_page(stack))])
        reply = server.ask("/predict", body, kind)
        assert reply.status == 200, reply.body
        answers = reply.table["answers"]
        own = [f"s.tif#{n}" for n in range(1, COUNT + 1)] if every else ["s.tif"]
        assert [answer["file"] for answer in answers] == [*own, "p.tif"]
        assert [answer["pages"] for answer in answers] == ([1] * COUNT if every else [COUNT]) + [1]
        tiff = {"Content-Type": "image/tiff"}
        first, second = (server.ask(f"/explain?page={page}", content, tiff) for page in (1, 2))
        assert first.status == 200
        assert first.body != second.body
        assert second.status == 200
        beyond = server.ask("/explain?page=5", content, tiff).table["error"]["why"]
        assert "holds 4 pictures, and the one asked for is number 5" in beyond
        for strange in ("0", "-1", "two", "9" * 30):
            assert "no number from 1" in server.ask(f"/explain?page={strange}", content, tiff).table["error"]["why"]
        read, second_page = preprocessor_of(stacks), one_page(stack, 1)
        assert server.ask("/explain", second_page, tiff).body == second.body
        (image,) = read_received(read, Limits(), [Received("s.tif", content, 2)])[0]
        assert np.array_equal(image.pixels, read.picture(f"{stack}#2").pixels)
    if every:
        with Server(model, "--images", "3") as server:
            assert "more than 3 pages" in server.ask("/predict", content, tiff).table["error"]["why"]


def one_page(stack: Path, page: int = 0) -> bytes:
    stream = io.BytesIO()
    tifffile.imwrite(stream, tifffile.imread(stack)[page])
    return stream.getvalue()


def preprocessor_of(stacks: Path) -> Preprocessor:
    return read_model(Workspace.open(stacks).run(1).model).preprocessor


def test_an_added_page_has_its_own_values_under_the_mouse_and_in_training(stacks: Path, stack: Path) -> None:
    place = Workspace.open(stacks)
    (number,) = add_images(place, [Path(f"{stack}#3")], "solid")
    (row,) = (row for row in place.catalogue.images() if row.number == number)
    (reference,) = references(place, [row])
    assert reference is not None
    wanted = tifffile.imread(stack)[2]
    stored, values = reference.stored(), reference.picture().values
    assert stored is not None
    assert stored.high == wanted.max()
    assert values is not None
    assert np.array_equal(values[:, :, 0], wanted)


def test_a_page_is_no_image_where_all_are_channels(tmp_path: Path) -> None:
    source = write_kind(tmp_path / "pictures", "pages", 5)
    made = finish(make_workspace(tmp_path / "work", source, "", Reading(pages="channels")))
    file = sorted(source.rglob("*.tif"))[0]
    for number in (1, 2):
        with pytest.raises(BadFile, match="1 channel, and 4 are expected"):
            add_images(made.workspace, [Path(f"{file}#{number}")], "solid")


def test_names_of_pages_are_told_from_names_of_files(tmp_path: Path) -> None:
    like = tmp_path / "a.png#2"
    Image.new("L", (4, 4)).save(like, "PNG")
    assert parted(str(like)) == (str(like), None), "a file that is called so"
    assert parted(str(tmp_path / "b.png#2")) == (str(tmp_path / "b.png"), 2)
    assert parted("b.png#999999999") == ("b.png", 999_999_999)
    for name in ("c.png#0", "c.png#", "#3", "c.png#x", "c.png", "c.png#²", "c.png#1000000000", "c.png#" + "1" * 40):
        assert parted(name) == (name, None)
    film = tmp_path / "film.gif"
    frames = [Image.new("L", (8, 8), level) for level in (0, 99, 200)]
    frames[0].save(film, save_all=True, append_images=frames[1:])
    named = list(each_page([str(film), str(like), f"{film}#2"], PixelFormat(pages="images")))
    assert named == [f"{film}#1", f"{film}#2", f"{film}#3", str(like), f"{film}#2"]
    assert list(each_page([str(film)], PixelFormat())) == [str(film)]
