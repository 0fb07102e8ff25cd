"""Builds six sets of real pictures from packages of the registries, for these benchmarks alone.

materials    photographed and painted surfaces, cut into tiles that overlap by a quarter; colour, 96 pixels
symbols      drawn symbols, each in up to six sizes from 16 to 256 pixels; colour on nothing
planets      maps of planets and moons, cut into tiles; grey, 64 pixels
laboratory   stained tissue, a retina, cells, ground, far galaxies, cut into tiles; mixed, 64 pixels
terrain      drawn ground of many kinds, its shape on nothing; colour, 72 pixels
head         pieces of sections through an averaged head, by direction and depth; grey, 64 pixels

Limits are set on the first two and judged on the others, of which the last two are looked at only at the end of a
piece of work. Nothing of them is kept with the project.

    python benchmarks/real/sets.py FOLDER
"""

from __future__ import annotations

import argparse
import gzip
import io
import re
import subprocess
import sys
import zipfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np
from PIL import Image

DEVELOPED, JUDGED, LAST = ("materials", "symbols"), ("planets", "laboratory"), ("terrain", "head")
DEBIAN = ("ufoai-textures", "gnome-icon-theme", "openuniverse-common", "xplanet-images", "wesnoth-1.16-data")
WHEELS = {"scikit_image": ("scikit-image==0.19.3", "3.9"), "nilearn": ("nilearn==0.14.1", "3.11")}

MATERIALS = {
    "carpet": r"carpet",
    "concrete": r"conc(rete)?",
    "dirt": r"(dirt|soil|mud)",
    "grass": r"(grass|leaves|jungle)",
    "metal": r"(met|metal|metall|mtl)",
    "rock": r"(rock|pjrock|stone|rockyground)",
    "roof": r"roof",
    "sand": r"(desert|sand)",
    "street": r"(street|asphalt|track)",
    "wallpaper": r"wallpaper",
    "wood": r"(wood|tree_bark|tree)",
}
SHADERS = re.compile(r"_(nm|gm|sm|rm)$")
PLANETS = (
    *("callisto", "earth", "europa", "ganymede", "io", "jupiter", "mars", "mercury", "moon", "venus", "night"),
    *("neptune", "saturn", "uranus"),
)
LABORATORY = {
    "stained tissue": "ihc.png",
    "retina": "retina.jpg",
    "cell": "cell.png",
    "galaxies": "hubble_deep_field.jpg",
    "moon": "moon.png",
    "grass": "grass.png",
    "gravel": "gravel.png",
    "brick": "brick.png",
}


GROUNDS = (
    *("castle", "cave", "chasm", "flat", "forest", "frozen", "grass", "hills", "mountains", "sand", "swamp"),
    *("unwalkable", "village", "water"),
)
DIRECTIONS, DEPTHS, PIECES = ("side", "front", "top"), 4, 130
VOXELS = 352
"""Bytes before the first voxel."""


def tiles(picture: Image.Image, side: int, step: int, most: int) -> Iterator[Image.Image]:
    """At most so many squares of a picture, spread over all of it."""
    width, height = picture.size
    places = [(x, y) for y in range(0, height - side + 1, step) for x in range(0, width - side + 1, step)]
    for k in range(min(most, len(places))):
        x, y = places[k * len(places) // min(most, len(places))]
        yield picture.crop((x, y, x + side, y + side))


def save(folder: Path, kind: str, name: str, picture: Image.Image) -> None:
    """One image of a set."""
    (folder / kind).mkdir(parents=True, exist_ok=True)
    picture.save(folder / kind / f"{name}.png")


def build_materials(packages: Path, folder: Path) -> None:
    """See the file's head."""
    (archive,) = (packages / "ufoai-textures").rglob("*.pk3")
    with zipfile.ZipFile(archive) as stored:
        for entry in sorted(stored.namelist()):
            path = Path(entry)
            if path.suffix not in (".png", ".jpg") or SHADERS.search(path.stem):
                continue
            kind = next((k for k, words in MATERIALS.items() if re.match(rf"{words}[-_0-9]*", path.stem)), None)
            if kind is None or path.parent.name in ("tex_pics", "tex_vehicles", "tex_shop", "tex_lights", "tex_doors"):
                continue
            picture = Image.open(io.BytesIO(stored.read(entry))).convert("RGB")
            if min(picture.size) < 192:
                continue
            picture = picture.resize((384, round(384 * picture.height / picture.width)))
            for k, tile in enumerate(tiles(picture, 96, 72, 16)):
                save(folder, kind, f"{path.parent.name}-{path.stem}_t{k:02}", tile)


def build_symbols(packages: Path, folder: Path) -> None:
    """See the file's head."""
    root = packages / "gnome-icon-theme/usr/share/icons/gnome"
    for size in (16, 22, 32, 48, 256):
        for file in sorted(root.glob(f"{size}x{size}/*/*.png")):
            if file.parent.name in ("animations", "emotes") or file.is_symlink():
                continue
            picture = Image.open(file).convert("RGBA")
            ground = Image.new("RGBA", picture.size, "white")
            save(folder, file.parent.name, f"{file.stem}-{size}", Image.alpha_composite(ground, picture).convert("RGB"))


def build_planets(packages: Path, folder: Path) -> None:
    """See the file's head."""
    for body in PLANETS:
        (file,) = [own for own in packages.rglob(f"{body}.jpg") if "openuniverse" in str(own) or body == "night"]
        for k, tile in enumerate(tiles(Image.open(file).convert("L"), 64, 64, 140)):
            save(folder, body, f"{body}-{k:03}", tile)


def build_laboratory(packages: Path, folder: Path) -> None:
    """See the file's head."""
    (wheel,) = packages.glob("scikit_image-*.whl")
    with zipfile.ZipFile(wheel) as stored:
        for kind, name in LABORATORY.items():
            picture = Image.open(io.BytesIO(stored.read(f"skimage/data/{name}"))).convert("RGB")
            for k, tile in enumerate(tiles(picture, 64, 56, 120)):
                save(folder, kind, f"{kind.replace(' ', '_')}-{k:03}", tile)


def build_terrain(packages: Path, folder: Path) -> None:
    """See the file's head."""
    (root,) = (packages / "wesnoth-1.16-data").rglob("core/images/terrain")
    for kind in GROUNDS:
        for file in sorted((root / kind).glob("*.png")):
            picture = Image.open(file).convert("RGBA")
            if min(picture.size) < 36:
                continue
            ground = Image.new("RGBA", picture.size, "white")
            save(folder, kind, file.stem, Image.alpha_composite(ground, picture).convert("RGB").resize((72, 72)))


def build_head(packages: Path, folder: Path) -> None:
    """See the file's head."""
    (wheel,) = packages.glob("nilearn-*.whl")
    with zipfile.ZipFile(wheel) as stored:
        data = gzip.decompress(stored.read("nilearn/datasets/data/mni_icbm152_t1_tal_nlin_sym_09a_converted.nii.gz"))
    shape = tuple(int(n) for n in np.frombuffer(data[42:48], "<i2"))
    kind = {2: np.uint8, 4: np.int16, 16: np.float32, 512: np.uint16}[int(np.frombuffer(data[70:72], "<i2")[0])]
    head = np.frombuffer(data[VOXELS:], kind, int(np.prod(shape))).reshape(shape, order="F").astype(float)
    head = np.clip(head * 255 / np.percentile(head, 99.8), 0, 255).astype(np.uint8)
    random = np.random.default_rng(1)
    for axis, direction in enumerate(DIRECTIONS):
        sections = np.moveaxis(head, axis, 0)
        bounds = np.linspace(0.12, 0.88, DEPTHS + 1) * len(sections)
        for depth in range(DEPTHS):
            for k in range(PIECES):
                piece = np.zeros((0, 0), np.uint8)
                while not piece.size or (piece > 25).mean() < 0.6:
                    at = int(random.uniform(bounds[depth], bounds[depth + 1]))
                    y, x = (int(random.integers(0, side - 64)) for side in sections.shape[1:])
                    piece = np.rot90(sections[at, y : y + 64, x : x + 64])
                save(folder, f"{direction} {depth + 1}", f"{direction}-{depth + 1}-{k:03}", Image.fromarray(piece))


BUILDERS = {
    "materials": build_materials,
    "symbols": build_symbols,
    "planets": build_planets,
    "laboratory": build_laboratory,
    "terrain": build_terrain,
    "head": build_head,
}


def fetch(packages: Path) -> None:
    """Download and unpack what is not there yet."""
    packages.mkdir(parents=True, exist_ok=True)
    for name in DEBIAN:
        if not (packages / name).exists():
            subprocess.run(["apt-get", "download", name], cwd=packages, check=True)
            (file,) = packages.glob(f"{name}_*.deb")
            subprocess.run(["dpkg-deb", "-x", file, packages / name], check=True)
            file.unlink()
    for name, (wanted, version) in WHEELS.items():
        if not list(packages.glob(f"{name}-*.whl")):
            options = ["--no-deps", "--only-binary=:all:", "--python-version", version, "-d", str(packages)]
            platform = ["--platform", "manylinux2014_x86_64", "--platform", "manylinux_2_12_x86_64"]
            command = [sys.executable, "-m", "pip", "download", "-q", *options, *platform, wanted]
            subprocess.run(command, check=True)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", type=Path)
    folder = parser.parse_args().folder
    fetch(folder / "packages")
    for name, build in BUILDERS.items():
        if not (folder / name).exists():
            build(folder / "packages", folder / name)
        counts = {kind.name: len(list(kind.iterdir())) for kind in sorted((folder / name).iterdir())}
        print(f"{name}: {sum(counts.values())} images of {len(counts)} classes: {counts}")


if __name__ == "__main__":
    main()
