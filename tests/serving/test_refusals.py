"""What a server does not do: for strangers, beyond its limits, with hostile pictures, when it is ended in the midst."""

from __future__ import annotations

import http.client
import io
import json
import os
import signal
import socket
import time
import zlib
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import psutil
import pytest
from PIL import Image
from tests.cli.running import command, last_object
from tests.serving.asking import Server, form

from attentive_lens.workspace import Workspace

TOKEN = "a token of our own making"


@pytest.fixture(autouse=True)
def nothing_left_behind() -> None:
    """The server outlives a test here."""


@pytest.fixture(scope="module")
def model(station_once: Path) -> Path:
    return Workspace.open(station_once).run(1).model


@pytest.fixture(scope="module")
def image(station_once: Path) -> bytes:
    place = Workspace.open(station_once)
    return place.path_of(place.catalogue.images()[0]).read_bytes()


@pytest.fixture(scope="module")
def serving(model: Path) -> Iterator[Server]:
    with Server(model, "--images", 5, "--megabytes", 1, "--megapixels", 2) as server:
        yield server


def bomb(side: int) -> bytes:
    """A PNG of so many black pixels a side, a thousandth as large as what it unpacks to."""

    def chunk(name: bytes, data: bytes) -> bytes:
        return len(data).to_bytes(4, "big") + name + data + zlib.crc32(name + data).to_bytes(4, "big")

    head = side.to_bytes(4, "big") * 2 + bytes([8, 0, 0, 0, 0])
    packing = zlib.compressobj(9)
    rows = b"".join(packing.compress(bytes(side + 1)) for _ in range(side)) + packing.flush()
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", rows) + chunk(b"IEND", b"")


def test_each_refusal_has_its_status_and_one_sentence(serving: Server, image: bytes) -> None:
    kind, many = form([(str(k), image) for k in range(6)])
    png = {"Content-Type": "image/png"}
    as_json = {"Content-Type": "application/json"}
    for path, body, headers, method, status, why in (
        ("/nothing", None, {}, "GET", 404, "GET /nothing is not among"),
        ("/predict", None, {}, "GET", 405, "GET /predict is not among"),
        ("/predict", image, png, "DELETE", 405, "DELETE"),
        ("/predict", b"", png, "POST", 400, "holds no image"),
        ("/predict", many, kind, "POST", 413, "5 are the most"),
        ("/predict", bytes(1_100_000), png, "POST", 413, "more than 1 MB"),
        ("/predict", json.dumps({"images": [{"data": ""}] * 6}).encode(), as_json, "POST", 413, "5 are the most"),
        ("/predict", image, {"Content-Type": "text/plain"}, "POST", 415, "text/plain"),
        ("/predict", b"no picture", png, "POST", 422, "not those of an image format"),
        ("/predict", bomb(1500), png, "POST", 422, "2 million are the most"),
        ("/predict", b"not a form", kind, "POST", 400, "."),
        ("/predict", b"{", as_json, "POST", 400, "JSONDecodeError"),
        ("/predict", b"[]", as_json, "POST", 400, "TypeError"),
        ("/predict", b'{"images": 3}', as_json, "POST", 400, "no list"),
        ("/predict", b'{"images": [{"name": "a"}]}', as_json, "POST", 400, "KeyError"),
        ("/predict", b'{"images": [{"data": "#"}]}', as_json, "POST", 400, "no base64"),
        ("/predict", b'{"images": ' + b"[" * 100_000, as_json, "POST", 400, "Error"),
        ("/predict", image, {**png, "Origin": "http://elsewhere.example"}, "POST", 403, "elsewhere.example"),
        ("/predict", image, {**png, "Host": "elsewhere.example"}, "POST", 403, "elsewhere.example"),
        ("/predict", image, {**png, "Origin": "http://["}, "POST", 403, "http://["),
        ("/predict", image, {**png, "Origin": "null"}, "POST", 403, "null"),
        ("/predict", image, {**png, "Host": "["}, "POST", 403, "this machine alone"),
        ("/predict", image, {**png, "Content-Type": "multipart/form-data"}, "POST", 400, "oundary"),
        ("/drift", None, {}, "GET", 404, "validation images"),
        ("/drift.svg", None, {}, "GET", 404, "validation images"),
    ):
        reply = serving.ask(path, body, headers, method)
        assert reply.status == status, (path, method, reply.body)
        assert why in reply.error["why"] + ".", (path, method)
        assert "Traceback" not in reply.body.decode()
    assert serving.ask("/", None, {"Origin": f"http://127.0.0.1:{serving.port}"}).status == 200
    assert serving.ask("/drift").error["remedy"] == "Add images", "and not to serve it elsewhere"
    assert "validation images" in serving.ask("/").body.decode(), "why nothing is told of drift"
    assert serving.ask("/health").table == {"state": "ready", "waiting": 0, "answered": 2}


def test_a_token_is_asked_for_wherever_one_is_set(model: Path, image: bytes, tmp_path: Path) -> None:
    file = tmp_path / "token"
    file.write_text(TOKEN + "\n", "utf-8")
    with Server(model, "--token", file) as server:
        assert server.begun["needs_token"] is True
        for word in ("", "Bearer", "Bearer wrong", f"Basic {TOKEN}", f"Bearer {TOKEN}x", "Bearer ü"):
            reply = server.ask("/model", None, {"Authorization": word} if word else {})
            assert (reply.status, reply.headers["www-authenticate"]) == (401, "Bearer"), word
        right = {"Authorization": f"bearer {TOKEN}"}
        assert server.ask("/model", None, right).table["classes"]
        assert server.predict(image, **right).status == 200
        assert server.ask("/health").status == 200
        page = server.ask("/", None, right).body.decode()
        assert TOKEN not in page
        assert "<form" not in page
    for words, environment in (([], {"ATTENTIVE_LENS_TOKEN": "short"}), (["--token", tmp_path / "none"], {})):
        with Server(model, *words, environment=environment) as server:
            assert "token" in " ".join(server.begun["error"].values())
            assert server.process.wait(60) in (1, 2)


def test_hostile_pictures_end_no_server(serving: Server, image: bytes) -> None:
    stream = io.BytesIO()
    Image.new("RGB", (8, 8)).save(stream, "TIFF")
    tiff = stream.getvalue()
    hostile = [
        bomb(1500), image[:100], image[:60] + bytes(200), tiff[:20], tiff[:8] + b"\xff" * 200, b"\x93NUMPY\x01\x00",
        b"GIF89a" + b"\xff" * 50, b"RIFF\xff\xff\xff\xffWEBPVP8 ", b"\xff\xd8\xff\xe0" + bytes(100),
        b"\x89PNG\r\n\x1a\n" + bytes(50), b"PK\x03\x04" + bytes(80), b"<svg/>", b"\x93NUMPY\x01\x00v\x00{'descr': '|O'",
    ]  # fmt: skip

    def one(k: int) -> bool:
        reply = serving.predict(hostile[k % len(hostile)], image)
        bad, good = reply.table["answers"]
        return reply.status == 200 and "error" in bad and "predicted" in good

    with ThreadPoolExecutor(8) as threads:
        assert all(threads.map(one, range(4 * len(hostile))))
    assert serving.ask("/health").table["waiting"] == 0


def test_a_decoder_that_dies_is_begun_anew(serving: Server, image: bytes) -> None:
    process = psutil.Process(serving.process.pid)
    for _ in range(2):
        decoders = [child for child in process.children() if "attentive_lens.core.helpers" in child.cmdline()]
        assert decoders
        for child in decoders:
            child.kill()
        assert serving.predict(image, image).status == 200


def test_who_goes_in_the_midst_or_never_says_what_they_want_holds_up_nobody(serving: Server, image: bytes) -> None:
    before = serving.ask("/health").table["answered"]
    kind, body = form([("a", image)])
    head = f"POST /predict HTTP/1.1\r\nHost: localhost\r\nContent-Type: {kind['Content-Type']}\r\n"
    held = []
    for k in range(20):
        own = socket.create_connection(("127.0.0.1", serving.port))
        if k % 4 == 0:
            own.sendall(b"POST /pre")
        elif k % 4 == 1:
            own.sendall(f"{head}Content-Length: {len(body)}\r\n\r\n".encode() + body[:50])
        elif k % 4 == 2:
            own.sendall(f"{head}Content-Length: {len(body)}\r\n\r\n".encode() + body)
        held.append(own)
        if k % 2:
            own.close()
    assert serving.predict(image).status == 200
    for own in held:
        own.close()
    until = time.monotonic() + 30
    while serving.ask("/health").table["waiting"] and time.monotonic() < until:
        time.sleep(0.05)
    health = serving.ask("/health").table
    assert health["waiting"] == 0
    assert health["answered"] > before


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGINT])
def test_it_ends_when_it_is_told_to_even_in_the_midst(
    large_station_once: Path, image: bytes, tmp_path: Path, number: int
) -> None:
    days = tmp_path / "days.json"
    with Server(Workspace.open(large_station_once).run(1).model, "--drift", days) as server:
        process = psutil.Process(server.process.pid)
        helpers = process.children()
        assert server.predict(image, image).status == 200
        kind, body = form([(str(k), image) for k in range(60)])
        connection = http.client.HTTPConnection("127.0.0.1", server.port)
        connection.request("POST", "/predict", body, kind)
        code, said = server.end(number)
        connection.close()
        assert code == 0, said
        assert "Traceback" not in said
        assert not [helper for helper in helpers if helper.is_running() and helper.status() != psutil.STATUS_ZOMBIE]
    (day,) = json.loads(days.read_text("utf-8"))["days"].values()
    assert day["images"] >= 2
    assert [f.name for f in tmp_path.iterdir()] == ["days.json"], "and no part of a file"


def test_what_cannot_be_served_is_a_sentence(model: Path, station_once: Path, tmp_path: Path) -> None:
    with socket.create_server(("127.0.0.1", 0)) as taken:
        for words, code, why in (
            ([model, "--port", taken.getsockname()[1]], 2, "address already in use"),
            ([model, "--host", "no.such.name.example"], 2, ""),
            ([tmp_path / "none.alens"], 1, "no such file"),
            ([model, "--drift", tmp_path / "nowhere" / "days.json"], 1, "there is no folder"),
            ([model, "--drift", tmp_path / "days.json"], 1, "validation images"),
            ([model, "--images", 0], 2, "--images"),
        ):
            said = last_object(command("serve", *words, "--json", code=code))["error"]
            assert why in " ".join(said.values())
    os.environ.pop("ATTENTIVE_LENS_TOKEN", None)
    with Server(model, "--host", "0.0.0.0") as server:  # noqa: S104
        assert server.begun["needs_token"] is True
        assert server.ask("/model").status == 401
        _, said = server.end()
    token = said.rpartition(": ")[2].strip()
    assert len(token) > 20
