"""How fast `serve` answers 16 clients at once, as a share of the rate at which `predict` goes over the same files.

    python benchmarks/serving.py WORKSPACE RUN [--images 4000] [--clients 16] [--side 512]

The workspace's own images are asked about again and again. `predict` reads them from a folder and writes CSV, from when
its first batch is there; the server is a process of its own, and so are the clients, which send requests that are made
beforehand and read no more of an answer than they must. They take their part of the same cores. With one image in a
request, with sixteen; without and with the counting for drift. With --side they are enlarged to photographs of so many
pixels a side first.
"""

from __future__ import annotations

import argparse
import asyncio
import json
import os
import subprocess
import sys
import tempfile
import time
from itertools import cycle, islice
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import uvloop
from PIL import Image

from attentive_lens.desk.results.answer_files import AnswerFile
from attentive_lens.desk.results.answering import answers_to
from attentive_lens.desk.results.models import model_of
from attentive_lens.workspace import Workspace

BOUNDARY = "a-boundary-of-ours"


def predicted(model: Path, files: list[str], out: Path) -> float:
    """Images a second."""
    into, count, began = AnswerFile(out, model_of(model).classes), 0, 0.0
    for batch in answers_to(model_of(model), files):
        into.write(batch)
        if began:
            count += len(batch)
        else:
            began = time.perf_counter()
    into.finish()
    return count / (time.perf_counter() - began)


def request_of(contents: list[bytes]) -> bytes:
    """A whole request with these images."""
    if len(contents) == 1:
        kind, body = "image/png", contents[0]
    else:
        kind = f"multipart/form-data; boundary={BOUNDARY}"
        each = f'--{BOUNDARY}\r\nContent-Disposition: form-data; name="images"; filename="an image"\r\n\r\n'.encode()
        body = b"".join(each + content + b"\r\n" for content in contents) + f"--{BOUNDARY}--\r\n".encode()
    head = f"POST /predict HTTP/1.1\r\nHost: localhost\r\nContent-Type: {kind}\r\nContent-Length: {len(body)}\r\n\r\n"
    return head.encode() + body


async def _client(port: int, requests: list[bytes]) -> None:
    reader, writer = await asyncio.open_connection("127.0.0.1", port)
    for request in requests:
        writer.write(request)
        head = await reader.readuntil(b"\r\n\r\n")
        if not head.startswith(b"HTTP/1.1 200"):
            raise SystemExit(head.decode() + (await reader.read(500)).decode())
        length = next(line for line in head.lower().split(b"\r\n") if line.startswith(b"content-length"))
        await reader.readexactly(int(length.split(b":")[1]))
    writer.close()


def clients(port: int, files: list[str], count: int, together: int) -> None:
    """Ask about every file, several at once."""
    contents = [Path(file).read_bytes() for file in files]
    requests = [request_of(contents[first : first + together]) for first in range(0, len(contents), together)]
    with asyncio.Runner(loop_factory=uvloop.new_event_loop) as runner:

        async def all_of_them() -> float:
            began = time.perf_counter()
            await asyncio.gather(*(_client(port, requests[each::count]) for each in range(count)))
            return time.perf_counter() - began

        print(len(contents) / runner.run(all_of_them()))


def enlarged(files: list[str], folder: Path, side: int) -> list[str]:
    """The images as photographs of so many pixels a side, JPEG of quality 90."""
    outcome = []
    for k, file in enumerate(files):
        place = folder / f"{k}.jpg"
        Image.open(file).convert("RGB").resize((side, side), Image.Resampling.BICUBIC).save(place, quality=90)
        outcome.append(str(place))
    return outcome


class Server:
    """The command in a process of its own."""

    def __init__(self, model: Path) -> None:
        words = [sys.executable, "-m", "attentive_lens", "serve", str(model), "--port", "0", "--json"]
        self.process = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
        assert self.process.stdout is not None
        self.port = int(json.loads(self.process.stdout.readline())["url"].rpartition(":")[2])

    def rate(self, files: Path, count: int, together: int) -> float:
        """Images a second, by clients in another process."""
        words = [sys.executable, __file__, "--ask", str(self.port), str(files), str(count), str(together)]
        return float(subprocess.run(words, check=True, capture_output=True, text=True).stdout)

    def end(self) -> None:
        """As a person would."""
        self.process.terminate()
        self.process.wait()


def main() -> None:
    """Measure and print."""
    if sys.argv[1:2] == ["--ask"]:
        port, names, count, together = sys.argv[2:]
        clients(int(port), Path(names).read_text().splitlines(), int(count), int(together))
        return
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("workspace", type=Path)
    parser.add_argument("run", type=int)
    parser.add_argument("--images", type=int, default=4000)
    parser.add_argument("--clients", type=int, default=16)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--side", type=int, default=0)
    words = parser.parse_args()
    place = Workspace.open(words.workspace)
    model = place.run(words.run).model
    own = [str(place.path_of(row)) for row in place.catalogue.images()]
    files = list(islice(cycle(own), words.images))
    with tempfile.TemporaryDirectory() as made:
        if words.side:
            files = list(islice(cycle(enlarged(own[:200], Path(made), words.side)), words.images))
        listing = Path(made) / "files"
        listing.write_text("\n".join(files))
        alone = Path(made) / "model.alens"  # outside its workspace nothing is measured for drift
        alone.write_bytes(model.read_bytes())
        for what, served in (("answers alone", alone), ("and drift", model)):
            server = Server(served)
            server.rate(listing, words.clients, 1)
            for turn in range(words.rounds):
                usual = predicted(model, files, Path(made) / f"{what} {turn}.csv")
                one, many = (server.rate(listing, words.clients, together) for together in (1, 16))
                print(
                    f"{what}: predict {usual:.0f} images/s; serve to {words.clients} clients, one image a request"
                    f" {one:.0f} ({one / usual:.2f}), sixteen {many:.0f} ({many / usual:.2f})",
                    flush=True,
                )
            server.end()


if __name__ == "__main__":
    main()
