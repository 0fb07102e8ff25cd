"""Every question that commands put to a run, with its words after the workspace and the run; OUT: a place to write."""

from __future__ import annotations

QUESTIONS: dict[str, tuple[object, ...]] = {
    "score": (),
    "explain": (3, "--trust", "--out", "OUT"),
    "try": (3, "--change", "cover row=0.8 column=0.2", "--smallest"),
    "causes": (),
    "class-maps": ("--out", "OUT"),
    "layer": ("convolution 2", "--out", "OUT"),
    "activity": ("convolution 1",),
    "numbers": ("convolution 1",),
    "channel": (3, "convolution 1"),
    "neighbours": (3,),
    "similarity": (),
    "robustness": (),
    "map": ("--method", "pca", "--out", "OUT.png"),
    "verify": (),
    "advise": (),
    "report": ("--out", "OUT.html"),
    "export": ("--out", "OUT.onnx", "--sample", 6),
}
DRAWN: dict[str, tuple[object, ...]] = {
    "draw": ("--out", "OUT.png"),
    "fidelity": ("--out", "OUT.png"),
    "export": ("--out", "OUT.onnx", "--sample", 2),
}
