"""What a server does for each request."""

from __future__ import annotations

import asyncio
import io
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from functools import partial
from typing import TypeVar

from PIL import Image
from starlette.requests import Request
from starlette.responses import Response

from attentive_lens.core.values import in_words
from attentive_lens.desk.map_colours import OCHRE, PETROL, VERMILION, coloured, over_image
from attentive_lens.desk.requests.models import Unreadable
from attentive_lens.desk.results.figures import as_svg, drift_by_day
from attentive_lens.desk.tasks.explaining import class_map
from attentive_lens.errors import BadFile, BadUsage, NotHere
from attentive_lens.explaining.methods import DEFAULT, MAP_METHODS, MapSettings
from attentive_lens.explaining.saliency import map_method
from attentive_lens.images.pages import MOST_PAGES
from attentive_lens.images.pixel_format import COLOURS, PixelArray
from attentive_lens.serving.answering import Answerer
from attentive_lens.serving.answers import JsonAnswer
from attentive_lens.serving.receiving import Received, received
from attentive_lens.serving.refusals import TooMany
from attentive_lens.serving.results import Answered, DriftTold, Health, ModelServed

MAPS_WAITING = 16
"""Maps that are asked for at once."""
SIDE = 256
"""Pixels of a picture's height, about, where none are asked for."""
T = TypeVar("T")
SHOWN = ("beside", "map")
"""Ways to show a map: the image and beside it the map over the paled image, or the map alone, transparent."""


class Served:
    """A model and all that answers for it; its methods are the table of `ENDPOINTS`.

    Parameters
    ----------
    answerer : Answerer
    name : str
        Of the model's file.
    no_drift : NotHere, optional
        Where nothing can be told of drift: why, and what to do.
    with_token : bool
        Whether who asks needs one.
    """

    def __init__(
        self, answerer: Answerer, name: str, no_drift: NotHere | None = None, with_token: bool = False
    ) -> None:
        self.answerer, self.name, self.no_drift = answerer, name, no_drift
        self.with_token = with_token
        self._drawing = ThreadPoolExecutor(1, thread_name_prefix="maps")
        self._maps = 0
        self._before = sum(own.images for own in answerer.days.counts.values()) if answerer.days is not None else 0

    async def model(self, request: Request) -> Response:
        """Tell about the model."""
        del request
        return JsonAnswer(self.about())

    def about(self) -> ModelServed:
        """The model that answers."""
        file = self.answerer.model
        settings = file.preprocessor.settings
        channels = file.preprocessor.pixel_format.channels or COLOURS
        return ModelServed(
            self.name,
            file.classes,
            file.output,
            settings.sides,
            channels,
            tuple(MAP_METHODS),
            settings.caution_of_files,
            file.thresholds,
        )

    async def predict(self, request: Request) -> Response:
        """Answer to images."""
        answers = await self.answerer.ask(await received(request, self.answerer.limits))
        reasons = [answer.error for answer in answers if isinstance(answer, Unreadable)]
        if len(reasons) == len(answers):
            what = f"{answers[0].file!r} was not read" if len(answers) == 1 else "None of the images was read"
            raise BadFile(what, reasons[0], "Send images of a format known here")
        return JsonAnswer(Answered(tuple(answers)))

    async def explain(self, request: Request) -> Response:
        """Draw the map of one image."""
        query = request.query_params
        side = _number("side", query.get("side", str(SIDE)), self.answerer.limits.side)
        page = _number("page", query["page"], MOST_PAGES) if "page" in query else 0
        show = query.get("show", SHOWN[0])
        if show not in SHOWN:
            raise BadUsage(
                "The map was not drawn", f"«{show[:40]}» is no way to show it", f"Choose {' or '.join(SHOWN)}"
            )
        settings: MapSettings = in_words("method", MAP_METHODS, query.get("method", DEFAULT.kind))
        if self._maps >= MAPS_WAITING:
            raise TooMany("The map was not drawn", f"{self._maps} others wait", "Send it again in a moment")
        self._maps += 1
        try:
            images = await received(request, self.answerer.limits)
            if len(images) != 1:
                raise BadUsage("One image is explained", f"the request holds {len(images)}", "Send one of them")
            image = replace(images[0], page=page)
            draw = partial(self._drawn, image, settings, query.get("target"), show, side)
            picture = await self.drawn(draw)
        finally:
            self._maps -= 1
        return Response(picture, media_type="image/png")

    def _drawn(self, image: Received, settings: MapSettings, target: str | None, show: str, side: int) -> bytes:
        pixels = self.answerer.decoders.read([image])[0][0].pixels
        if isinstance(pixels, str):
            raise BadFile(f"{image.name!r} was not read", pixels, "Send an image of a format known here")
        model = self.answerer.model
        chosen = map_method(settings, None, model.preprocessor.settings.names_of_channels)
        map_ = class_map(model, pixels, chosen, target)
        shown = over_image(pixels, map_) if show == SHOWN[0] else coloured(map_, (OCHRE, VERMILION, PETROL))
        return _png(shown, side)

    async def drift(self, request: Request) -> Response:
        """Tell how each day's images differ from held-out ones."""
        del request
        return JsonAnswer(await self.drawn(self.by_day))

    def by_day(self) -> DriftTold:
        """How each day's images differ from held-out ones; `NotHere` where nothing is known of these."""
        days = self.answerer.days
        if days is None:
            why = self.no_drift or NotHere(
                "Nothing can be told of drift", "no images are counted", "Serve a run's model"
            )
            raise NotHere(why.what, why.why, why.remedy)  # anew: who raises one adds to its trace
        with self.answerer.counting:
            outcome = days.days()
        measured = sum(day.images for day in outcome) - self._before
        return DriftTold(len(days.held_out.reference), self.answerer.answered, measured, outcome)

    async def drift_chart(self, request: Request) -> Response:
        """Draw that as a chart."""
        del request
        chart = await self.drawn(self.chart)
        if not chart:
            raise NotHere("There is no chart", "no day has images enough yet", "Ask again later")
        return Response(chart, media_type="image/svg+xml")

    def chart(self) -> str:
        """The days as SVG; empty without a day of images enough."""
        return as_svg(drift_by_day(self.by_day().days), "How the images of each day differ from held-out ones")

    async def drawn(self, work: Callable[[], T]) -> T:
        """What some work gives, one after the other: what charts are drawn with bears no company."""
        return await asyncio.get_running_loop().run_in_executor(self._drawing, work)

    async def health(self, request: Request) -> Response:
        """Tell whether the server answers."""
        del request
        return JsonAnswer(Health("ready", self.answerer.waiting, self.answerer.answered))

    def close(self) -> None:
        """End it; what is under way is not finished."""
        self._drawing.shutdown(cancel_futures=True)
        self.answerer.close()


def _number(name: str, words: str, most: int) -> int:
    if not words.isdecimal() or not 1 <= int(words[:10]) <= most:
        why = f"the {name} «{words[:20]}» is no number from 1 to {most}"
        raise BadUsage("The map was not drawn", why, "Correct it")
    return int(words)


def _png(pixels: PixelArray, side: int) -> bytes:
    """A picture enlarged by a whole number, so that it is about so high."""
    factor = max(1, side // len(pixels))
    stream = io.BytesIO()
    Image.fromarray(pixels.repeat(factor, axis=0).repeat(factor, axis=1)).save(stream, "PNG")
    return stream.getvalue()
