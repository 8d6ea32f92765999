"""The exhibition's objects by name, built once and kept in a cache folder."""

import os
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import numpy as np

from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.demo import bell, fender, lamp, net_float, owl, stamp, tile
from lucid_relic.errors import InputError
from lucid_relic.types import TriangleMesh

CLOSE_HEAD = ScannerTraits(
    standoff_mm=230.0, noise_mm=0.02, band_mm=(120.0, 480.0), axis_error_mm=0.2, axis_error_deg=0.2
)


@dataclass(frozen=True)
class DemoObject:
    """One object of the exhibition and how it is best scanned."""

    title: str
    notes: str
    size_class: str
    build: Callable[[], ScanModel]
    traits: ScannerTraits


DEMO_OBJECTS: dict[str, DemoObject] = {
    "owl": DemoObject(
        "Owl inkwell", "Harbour-master’s inkwell, glazed stoneware. Loan 1, “Things the Tide Left”.",
        "hand-sized", owl.model, CLOSE_HEAD,
    ),
    "bell": DemoObject(
        "Fog bell", "Cast bronze with verdigris, from Saltreach Light. Loan 2, “Things the Tide Left”.",
        "hand-sized", bell.model, ScannerTraits(dark_albedo=0.012),
    ),
    "stamp": DemoObject(
        "Customs stamp", "Carved soapstone, ink in the seal. Loan 3, “Things the Tide Left”.",
        "small", stamp.model,
        ScannerTraits(standoff_mm=130.0, noise_mm=0.012, band_mm=(70.0, 300.0), axis_error_mm=0.12, axis_error_deg=0.2),
    ),
    "tile": DemoObject(
        "Ballast tile", "Fired clay, found on the foreshore. Loan 4, “Things the Tide Left”.",
        "hand-sized", tile.model, CLOSE_HEAD,
    ),
    "float": DemoObject(
        "Net float", "Blown green glass in its tarred net. Loan 5, “Things the Tide Left”.",
        "hand-sized", net_float.model, ScannerTraits(),
    ),
    "float-matted": DemoObject(
        "Net float, matted", "Loan 5 under matting spray, gone after four hours. “Things the Tide Left”.",
        "hand-sized", net_float.matted, ScannerTraits(),
    ),
    "lamp": DemoObject(
        "Pilot’s lamp", "Ship’s lamp, black lacquer over brass. Loan 6, “Things the Tide Left”.",
        "large", lamp.model, ScannerTraits(standoff_mm=620.0, noise_mm=0.08, band_mm=(400.0, 1500.0)),
    ),
    "fender": DemoObject(
        "Rope fender", "Plaited manila from the pilot cutter. Loan 7, “Things the Tide Left”.",
        "large", fender.model, ScannerTraits(),
    ),
}  # fmt: skip


@cache
def demo_model(name: str) -> ScanModel:
    """The model of a demo object; built in seconds and kept in `LUCID_RELIC_CACHE` for the next time."""
    if name not in DEMO_OBJECTS:
        raise InputError(f"{name}: there is no such demo object; there are {', '.join(DEMO_OBJECTS)}")
    folder = Path(os.environ.get("LUCID_RELIC_CACHE", Path(tempfile.gettempdir()) / "lucid-relic-cache"))
    path = folder / f"{name}-2.npz"
    if path.is_file():
        with np.load(path) as kept:
            mesh = TriangleMesh(kept["vertices"], kept["faces"])
            return ScanModel(mesh, kept["albedo"], kept["gloss"], kept.get("clear"))
    model = DEMO_OBJECTS[name].build()
    folder.mkdir(parents=True, exist_ok=True)
    scratch = path.with_suffix(f".{os.getpid()}.npz")
    clear = {} if model.clear is None else {"clear": model.clear}
    mesh = model.mesh
    np.savez(scratch, vertices=mesh.vertices, faces=mesh.faces, albedo=model.albedo, gloss=model.gloss, **clear)
    os.replace(scratch, path)
    return model
