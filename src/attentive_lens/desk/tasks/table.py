"""Every task by the request it answers."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from attentive_lens.core.jobs import Job
from attentive_lens.desk.requests import table as ask
from attentive_lens.desk.tasks import (
    cases,
    causes,
    changing,
    dropout,
    explaining,
    images,
    inspecting,
    looking,
    mapping,
    maps,
    neighbours,
    new_images,
    numbers,
    pricing,
    probing,
    reporting,
    robustness,
    scoring,
    slicing,
    sweeping,
    verifying,
)

# Any: each task takes its own request and gives its own result; `carry_out` says which belong together
TASKS: dict[type[ask.Request[object]], Callable[[Any], Job[Any]]] = {
    ask.Prepare: images.prepare,
    ask.Preview: images.preview,
    ask.OpenPicture: images.open_picture,
    ask.Measure: images.measure,
    ask.ClassAverages: images.class_averages,
    ask.ResizeModes: images.resize_modes,
    ask.Augment: images.augmented,
    ask.FindFaults: looking.find,
    ask.Score: scoring.score,
    ask.OrderClasses: scoring.order_classes,
    ask.Verify: verifying.verify,
    ask.Calibrate: verifying.calibrate,
    ask.FindSlices: slicing.find_slices,
    ask.MapData: mapping.map_data,
    ask.MeasureRobustness: robustness.measure_robustness,
    ask.ProbeBase: probing.probe,
    ask.PricePlan: pricing.price,
    ask.SweepRates: sweeping.sweep_rates,
    ask.AnswerNew: new_images.answer_new,
    ask.Explain: explaining.explain,
    ask.Activations: explaining.activations,
    ask.Trust: explaining.trust,
    ask.WriteReport: reporting.write_report,
    ask.TryCases: cases.try_cases,
    ask.Causes: causes.causes,
    ask.FirstFilters: explaining.filters,
    ask.Maps: maps.maps,
    ask.ClassMaps: maps.class_maps,
    ask.MapImages: maps.map_images,
    ask.Layer: inspecting.layer,
    ask.LayerActivity: inspecting.activity,
    ask.SeeDropout: dropout.see_dropout,
    ask.LayerNumbers: numbers.numbers,
    ask.WriteWeights: numbers.write_weights,
    ask.Channels: inspecting.channels,
    ask.Neighbours: neighbours.neighbours,
    ask.TryChanges: changing.try_changes,
}
