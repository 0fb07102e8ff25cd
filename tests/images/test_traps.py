"""What real pictures mistake each other for: drawn stand-ins of each trap."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise

import numpy as np
import pytest
from PIL import Image
from scipy.ndimage import gaussian_filter, shift, zoom

from attentive_lens.core.jobs import finish
from attentive_lens.images.faults import FAULTS, Evidence, Finding
from attentive_lens.images.registration import Registered, best_shift, fitted

SIDE = 64


def noise(seed: int, width: float, side: int = SIDE) -> np.ndarray:
    """A field of smooth noise, mean 0 and deviation 1."""
    field = gaussian_filter(np.random.default_rng(seed).standard_normal((side, side)), width, mode="wrap")
    return np.asarray((field - field.mean()) / field.std())


def levels(field: np.ndarray, contrast: float = 40, level: float = 128) -> np.ndarray:
    grey = (level + contrast * field).clip(0, 255).astype(np.uint8)
    return np.repeat(grey[..., None], 3, axis=2)


def pattern(seed: int, period: float = 9.0) -> np.ndarray:
    """A regular grid, each time in another phase, lit otherwise and a little worn."""
    random = np.random.default_rng(seed)
    rows, columns = np.mgrid[:SIDE, :SIDE] + random.uniform(0, period, 2)[:, None, None]
    grid = np.cos(2 * np.pi * rows / period) + np.cos(2 * np.pi * columns / period)
    return levels(grid + 0.5 * noise(seed, 3), 35, random.uniform(100, 150))


def surface(seed: int) -> np.ndarray:
    """Smooth shading and nothing else, with the faint grain of a camera."""
    random = np.random.default_rng(seed)
    shading = noise(seed, 14)
    return levels(shading, 18, random.uniform(90, 160)) + random.integers(0, 3, (SIDE, SIDE, 1)).astype(np.uint8)


def texture(seed: int) -> np.ndarray:
    return levels(0.7 * noise(seed, 1.2) + 0.7 * noise(seed + 5000, 5))


def evidence(
    pixels: list[np.ndarray],
    labels: list[int] | None = None,
    sets: list[str] | None = None,
    sizes: list[int] | None = None,
    names: list[str] | None = None,
) -> Evidence:
    count = len(pixels)
    numbers = np.array(labels or [0] * count)
    sides = np.repeat(np.array(sizes or [SIDE] * count)[:, None], 2, axis=1)
    classes = tuple("abcdefgh"[: int(numbers.max()) + 1])
    where = tuple(sets or ["training" if k % 5 else "validation" for k in range(count)])
    return Evidence(np.stack(pixels), numbers, where, classes, sides, names=tuple(names or ()))


def result(kind: str, seen: Evidence) -> list[Finding]:
    return finish(FAULTS[kind].find(seen))


def again(image: np.ndarray, seed: int) -> np.ndarray:
    """A copy: moved by parts of a pixel, lit otherwise, noisy."""
    random = np.random.default_rng(seed)
    moved = shift(image.astype(float), (*random.uniform(-1.8, 1.8, 2), 0), order=3, mode="nearest")
    return np.asarray((moved * random.uniform(0.93, 1.07) + random.normal(0, 3, image.shape)).clip(0, 255), np.uint8)


@pytest.mark.parametrize("kind", [pattern, surface, texture])
def test_pictures_of_one_sort_are_no_copies_and_real_copies_are(kind: Callable[[int], np.ndarray]) -> None:
    pictures = [kind(k) for k in range(80)]
    assert result("duplicates", evidence(pictures)) == []
    if kind is texture:
        twins = [again(pictures[k], k) for k in (3, 20, 41)]
        groups = {group for f in result("duplicates", evidence([*pictures, *twins])) for group in f.groups}
        assert groups == {(3, 80), (20, 81), (41, 82)}


def test_a_group_is_what_resembles_one_picture_never_a_chain() -> None:
    """Each picture is nearly the next one; the first and the last have nothing in common."""
    steps = [texture(k) for k in range(4)]
    chain = []
    for one, other in pairwise(steps):
        chain += [(one * (1 - t) + other * t).astype(np.uint8) for t in np.linspace(0, 1, 12, endpoint=False)]
    groups = [group for f in result("duplicates", evidence(chain)) for group in f.groups]
    assert max(len(group) for group in groups) <= 6
    prepared = [Registered.of(p.mean(axis=2, dtype=np.float32) / 255) for p in chain]
    for group in groups:
        fits = [[fitted(prepared[a], prepared[b]).same for b in group if b != a] for a in group]
        assert any(all(row) for row in fits), "one of them resembles all others"


def test_sizes_of_one_drawing_are_a_kind_of_their_own_and_a_small_sign_on_one_makes_it_another() -> None:
    drawings, sizes = [], []
    for k in range(12):
        large = levels(noise(k, 6, 128), 60)
        for side in (128, 48):
            picture = Image.fromarray(large).resize((side, side), Image.Resampling.LANCZOS)
            drawings.append(np.array(picture.resize((SIDE, SIDE), Image.Resampling.BILINEAR)))
            sizes.append(side)
    signed = [drawings[0].copy(), drawings[4].copy()]
    for picture in signed:
        picture[40:54, 40:54] = (200, 30, 30)
    (finding,) = result("duplicates", evidence([*drawings, *signed], sizes=[*sizes, 128, 128]))
    assert finding.kind == "sizes"
    assert set(finding.groups) == {(2 * k, 2 * k + 1) for k in range(12)}
    assert finding.actions[0].together == finding.groups
    stored = set(finding.places) - set(finding.actions[1].exclude)
    assert {sizes[place] for place in stored} == {128}


def test_tiles_of_one_photograph_in_two_sets_are_named_with_the_pattern_that_parts_them() -> None:
    pixels, labels, names = [], [], []
    for photograph in range(24):
        random = np.random.default_rng(photograph)
        field = noise(photograph, random.uniform(1, 2.5), 160) + 0.6 * noise(photograph + 900, 12, 160)
        whole = levels(field, random.uniform(25, 45), random.uniform(80, 170))
        for k, (row, column) in enumerate((r, c) for r in (0, 48, 96) for c in (0, 48, 96)):
            pixels.append(whole[row : row + SIDE, column : column + SIDE])
            labels.append(photograph % 3)
            names.append(f"wall{photograph}_t{k}")
    (finding,) = result("tiles", evidence(pixels, labels, names=names))
    assert "overlap" in finding.why
    assert finding.actions[0].settings["split.group_pattern"]
    assert len(finding.groups) == 24
    apart = ["validation" if photograph % 5 == 0 else "training" for photograph in range(24) for _ in range(9)]
    assert result("tiles", evidence(pixels, labels, apart, names=names)) == [], "each photograph in one set is no fault"
    mixed = np.random.default_rng(0).permutation(len(names)).tolist()
    assert result("tiles", evidence(pixels, labels, names=[names[k] for k in mixed])) == [], "names alone prove nothing"
    assert result("tiles", evidence(pixels, labels, names=[f"{'abc'[n]}_{k}" for k, n in enumerate(labels)])) == []


def folder(seed: int) -> np.ndarray:
    """A thing with a tab at its upper left, as all of its kind, on plain ground."""
    random = np.random.default_rng(seed)
    picture = levels(0.1 * noise(seed, 2), 40, 225)
    top, left = random.integers(6, 12), random.integers(1, 5)
    picture[top + 8 : 60, left : 62 - left] = (150, 110, 70)
    picture[top : top + 8, left : left + 24] = (130, 90, 50)
    return picture


def test_what_reaches_on_into_the_thing_is_no_mark_and_a_dot_on_the_ground_is() -> None:
    things = [folder(k) for k in range(60)]
    others = [levels(0.1 * noise(k, 2), 40, 225) for k in range(100, 220)]
    for k, picture in enumerate(others):
        picture[18:46, 18:46] = levels(noise(k, 3, 28), 50)
    assert result("marks", evidence(things + others, [0] * 60 + [1 + k % 2 for k in range(120)])) == []
    dotted = [picture.copy() for picture in others[:60]]
    for picture in dotted[:50]:
        picture[50:58, 4:12] = (40, 60, 150)
    (finding,) = result("marks", evidence(dotted + things + others[60:], [0] * 60 + [1] * 60 + [2] * 60))
    assert len(set(finding.places) & set(range(50))) >= 45
    assert finding.spot is not None
    assert np.hypot(finding.spot[0] - 54 / 64, finding.spot[1] - 8 / 64) < 0.1


def test_smooth_things_are_not_out_of_focus_and_blurred_ones_are() -> None:
    smooth, sharp = [surface(k) for k in range(60)], [texture(k) for k in range(60)]
    labels = [0] * 60 + [1] * 60
    assert [f.kind for f in result("poor images", evidence(smooth + sharp, labels))] == []
    for k in (3, 17, 30, 44):
        sharp[k] = gaussian_filter(sharp[k], (2.8, 2.8, 0))
    (finding,) = result("poor images", evidence(smooth + sharp, labels))
    assert (finding.kind, set(finding.places)) == ("out of focus", {63, 77, 90, 104})


def test_washed_out_and_dark_are_told_from_pale_and_dark_things() -> None:
    pale, night = [levels(noise(k, 2), 6, 200) for k in range(40)], [levels(noise(k, 2), 8, 15) for k in range(40)]
    usual = [texture(k) for k in range(40)]
    labels = [0] * 40 + [1] * 40 + [2] * 40
    assert result("poor images", evidence(pale + night + usual, labels)) == []
    usual[5] = levels(noise(5, 2), 5, 180)
    usual[9] = (usual[9] * 0.1).astype(np.uint8)
    kinds = {f.kind: f.places for f in result("poor images", evidence(pale + night + usual, labels))}
    assert kinds == {"washed out": (85,), "too dark": (89,)}


def test_many_small_files_are_the_input_size_s_fault() -> None:
    pictures, sizes = [texture(k) for k in range(60)], [20] * 25 + [90] * 35
    (finding,) = result("poor images", evidence(pictures, sizes=sizes))
    assert finding.kind == "input size"
    assert "42%" in finding.why
    assert not any(action.exclude for action in finding.actions)
    (finding,) = result("poor images", evidence(pictures, sizes=[20] * 3 + [90] * 57))
    assert (finding.kind, finding.places) == ("too small", (0, 1, 2))


@pytest.mark.parametrize("moved", [(0, 0), (2, -1), (-2, 2)])
def test_the_shift_between_two_pictures_is_found(moved: tuple[int, int]) -> None:
    whole = noise(1, 1.5, 80)
    one = Registered.of(np.float32(0.5 + 0.1 * whole[8:72, 8:72]))
    other = Registered.of(np.float32(0.5 + 0.1 * whole[8 - moved[0] : 72 - moved[0], 8 - moved[1] : 72 - moved[1]]))
    correlation, down, across = best_shift(one.waves, other.waves, SIDE)
    assert (down, across) == (-moved[0], -moved[1])
    assert correlation > 0.8
    fit = fitted(one, other)
    assert fit.same
    assert fit.residual < 0.002
    darker = fitted(one, Registered.of(np.float32(0.3 + 0.08 * whole[8:72, 8:72])))
    assert darker.gain == pytest.approx(0.8, rel=1e-3)


@pytest.mark.parametrize(("side", "apart"), [(64, 3), (96, 3), (40, 3), (64, 1)])
def test_a_picture_cut_twice_is_one_up_to_three_pixels_of_its_file(side: int, apart: int) -> None:
    """Files of 40 pixels are made larger: three of theirs are five of what is compared."""

    def sized(file: np.ndarray, to: int) -> np.ndarray:
        return np.asarray(zoom(file, (to / len(file), to / len(file), 1), order=1, mode="nearest", grid_mode=True))

    whole = [texture(k)[:side, :side] if side <= SIDE else sized(texture(k), side) for k in range(8)]
    for down, right in ((apart, apart), (apart, -apart), (0, apart)):
        pixels = [sized(picture, SIDE) for picture in whole]
        file = whole[3]
        end = len(file) - apart
        left, shifted = (slice(end), slice(apart, None)) if right > 0 else (slice(apart, None), slice(end))
        first, second = file[:end, left], file[down : down + end, shifted]
        pixels[3] = sized(first, SIDE)
        (finding,) = result("duplicates", evidence([*pixels, sized(second, SIDE)], sizes=[side - apart] * 9))
        assert finding.groups == ((3, 8),)
