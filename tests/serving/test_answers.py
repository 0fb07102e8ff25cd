"""What a server answers: the same as `predict` and `explain`, however it is asked; days beside held-out images."""

from __future__ import annotations

import base64
import io
import json
import re
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import fastjsonschema
import numpy as np
import pytest
from PIL import Image
from tests.cli.running import command
from tests.serving.asking import Server, form

from attentive_lens.core.records import schema
from attentive_lens.desk.map_colours import OCHRE, PETROL, VERMILION, coloured, over_image
from attentive_lens.desk.tasks.explaining import class_map
from attentive_lens.explaining.methods import MAP_METHODS
from attentive_lens.explaining.saliency import map_method
from attentive_lens.formats.reading import read_model
from attentive_lens.serving.application import ENDPOINTS
from attentive_lens.workspace import Workspace


@pytest.fixture(scope="module")
def place(large_station_once: Path) -> Workspace:
    return Workspace.open(large_station_once)


@pytest.fixture(scope="module")
def files(place: Workspace) -> list[Path]:
    return [place.path_of(row) for row in place.catalogue.images()][:40]


@pytest.fixture(scope="module")
def predicted(place: Workspace, files: list[Path]) -> dict[str, dict[str, object]]:
    """What the command says, by file."""
    lines = command("predict", place.run(1).model, *files, "--unlike", "--json").splitlines()
    return {entry["file"]: entry for entry in map(json.loads, lines)}


@pytest.fixture(scope="module")
def serving(place: Workspace) -> Iterator[Server]:
    with Server(place.run(1).model, "--unlike") as server:
        yield server


@pytest.fixture(autouse=True)
def nothing_left_behind() -> None:
    """The server outlives a test here."""


def are_alike(entry: dict[str, Any], other: dict[str, Any]) -> bool:
    """The same answer to the last bit; how unlike it is, is a sum that is taken in other orders in other batches."""
    near = entry["unlike"] == pytest.approx(other["unlike"], rel=1e-5)
    return near and {**entry, "unlike": None} == {**other, "unlike": None}


def test_the_answers_are_those_of_the_command(
    serving: Server, files: list[Path], predicted: dict[str, dict[str, object]]
) -> None:
    contents = [file.read_bytes() for file in files]
    encoded = [{"name": str(f), "data": base64.b64encode(c).decode()} for f, c in zip(files, contents, strict=True)]
    kind, body = form([(str(file), content) for file, content in zip(files, contents, strict=True)])
    ways = {
        "form": serving.ask("/predict", body, kind).table["answers"],
        "JSON": serving.ask(
            "/predict", json.dumps({"images": encoded}).encode(), {"Content-Type": "application/json; charset=utf-8"}
        ).table["answers"],
        "alone": [
            serving.ask(f"/predict?name={file}", file.read_bytes(), {"Content-Type": kind}).table["answers"][0]
            for file, kind in zip(files[:4], ("image/png", "image/x", "application/octet-stream", ""), strict=True)
        ],
    }
    for way, answers in ways.items():
        assert len(answers) == (4 if way == "alone" else len(files))
        for file, entry in zip(files, answers, strict=False):
            assert are_alike(entry, predicted[str(file)]), way


def test_many_at_once_each_get_their_own(
    serving: Server, files: list[Path], predicted: dict[str, dict[str, object]]
) -> None:
    before = serving.ask("/health").table["answered"]

    def one(k: int) -> bool:
        own = [files[(k + i) % len(files)] for i in range(1 + k % 5)]
        kind, body = form([(str(file), file.read_bytes()) for file in own])
        reply = serving.ask("/predict", body, kind)
        return reply.status == 200 and all(
            are_alike(*pair)
            for pair in zip(reply.table["answers"], [predicted[str(file)] for file in own], strict=True)
        )

    with ThreadPoolExecutor(16) as threads:
        assert all(threads.map(one, range(96)))
    health = serving.ask("/health").table
    assert health["answered"] - before == sum(1 + k % 5 for k in range(96))
    assert (health["state"], health["waiting"]) == ("ready", 0)


def test_an_image_that_is_none_spoils_no_other(serving: Server, files: list[Path]) -> None:
    torn = files[0].read_bytes()[:200]
    answers = serving.predict(files[0].read_bytes(), torn, b"no picture", files[1].read_bytes()).table["answers"]
    assert ["predicted" in entry for entry in answers] == [True, False, False, True]
    assert "cut off or damaged" in answers[1]["error"]
    assert "not those of an image format" in answers[2]["error"]
    assert [entry["file"] for entry in answers] == [f"image {k}" for k in range(4)]


def test_arrays_and_deep_pictures_are_read_as_the_command_reads_them(
    serving: Server, place: Workspace, tmp_path: Path
) -> None:
    random = np.random.default_rng(0)
    values = random.integers(0, 256, (30, 40, 3)).astype(np.uint8)
    np.save(tmp_path / "array.npy", values)
    Image.fromarray((values[..., 0].astype(np.uint16)) * 256).save(tmp_path / "deep.png")
    for kind in ("TIFF", "BMP", "JPEG", "WEBP", "GIF"):
        Image.fromarray(values).save(tmp_path / f"a.{kind.lower()}", kind)
    for file in sorted(tmp_path.iterdir()):
        said = json.loads(command("predict", place.run(1).model, file, "--json"))
        answer = serving.predict(file.read_bytes()).table["answers"][0]
        assert answer["probabilities"] == said["probabilities"], file.name


def test_a_map_is_that_of_the_program(serving: Server, place: Workspace, files: list[Path]) -> None:
    model = read_model(place.run(1).model)
    pixels, content = model.preprocessor.opened(files[2]), files[2].read_bytes()
    for method in MAP_METHODS:
        reply = serving.ask(f"/explain?method={method}&side=32", content, {"Content-Type": "image/png"})
        assert (reply.status, reply.headers["content-type"]) == (200, "image/png"), (method, reply.body)
        map_ = class_map(model, pixels, map_method(method))
        assert np.array_equal(np.asarray(Image.open(io.BytesIO(reply.body))), over_image(pixels, map_)), method
    alone = serving.ask("/explain?show=map&target=spiny&side=64", *reversed(form([("a", content)])))
    drawn = np.asarray(Image.open(io.BytesIO(alone.body)))
    map_ = class_map(model, pixels, map_method("integrated_gradients"), "spiny")
    assert np.array_equal(drawn[::2, ::2], coloured(map_, (OCHRE, VERMILION, PETROL)))
    for query, why in (
        ("method=nothing", "«nothing»"),
        ("target=cat", "«cat»"),
        ("show=all", "«all»"),
        ("side=0", "«0»"),
        ("side=99999", "«99999»"),
        ("side=-1", "«-1»"),
        ("method=class_activation%20layer=nothing", "nothing"),
        ("method=integrated_gradients%20baseline=%22image%203%22", "image 3 of a workspace"),
    ):
        reply = serving.ask(f"/explain?{query}", content, {"Content-Type": "image/png"})
        assert reply.status == 400, query
        assert why in " ".join(reply.error.values())
    several, body = form([("a", content), ("b", content)])
    assert "the request holds 2" in serving.ask("/explain", body, several).error["why"]


def test_days_are_told_beside_held_out_images(serving: Server, files: list[Path]) -> None:
    dark = []
    for file in files:
        stream = io.BytesIO()
        Image.fromarray((np.asarray(Image.open(file).convert("RGB")) * 0.4).astype(np.uint8)).save(stream, "PNG")
        dark.append(stream.getvalue())
    before = serving.ask("/drift").table
    serving.predict(*dark)
    after = serving.ask("/drift").table
    assert after["answered"] - before["answered"] == len(dark)
    assert 0 < after["measured"] <= after["answered"]
    (day,) = after["days"]
    assert day["images"] == after["measured"]
    chart = serving.ask("/drift.svg")
    assert chart.headers["content-type"].startswith("image/svg+xml")
    assert day["name"] in chart.body.decode()
    page = serving.ask("/").body.decode()
    assert day["sentence"][:40] in page
    assert "<svg" in page
    assert "<script" not in page


def test_what_is_described_is_what_is_answered(serving: Server, files: list[Path]) -> None:
    description = serving.ask("/openapi.json").table
    assert description["openapi"].startswith("3.1")
    assert set(description["paths"]) == {each.path for each in ENDPOINTS}
    page = serving.ask("/").body.decode()
    for each in ENDPOINTS:
        operation = description["paths"][each.path][each.method.lower()]
        assert operation["summary"] == each.summary
        assert each.path in page
        assert {word["name"] for word in operation.get("parameters", [])} == {word.name for word in each.query}
        sent = {"Content-Type": "image/png"} if each.takes_images else {}
        reply = serving.ask(each.path, files[0].read_bytes() if each.takes_images else None, sent)
        assert reply.status == 200
        (media,) = operation["responses"]["200"]["content"]
        assert reply.headers["content-type"].startswith(media)
        if isinstance(each.result, type) and each.result is not object:
            fastjsonschema.compile(schema(each.result))(reply.table)
    assert len({o["operationId"] for p in description["paths"].values() for o in p.values()}) == len(ENDPOINTS)
    assert not re.search(r'"items": \[', json.dumps(description)), "a list of schemas is «prefixItems» in this version"
