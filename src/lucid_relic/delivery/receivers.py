"""Who takes an object, and in which form: a receiver is its parameters, what it needs, and the files it gets."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from PIL import Image

from lucid_relic.delivery.baking import baked, vertex_tangents
from lucid_relic.delivery.prepare import in_frame, prepared, with_vertex_colours
from lucid_relic.delivery.report import page_html, page_of, page_pdf
from lucid_relic.delivery.slices import AXES, heights, sliced, slices_dxf, slices_svg
from lucid_relic.delivery.turning import turning_html
from lucid_relic.errors import ParameterError, StepNotPossible, quoted
from lucid_relic.geometry.pass_points import came_points, pass_points
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.io.formats.glb import SurfaceMaps, write_glb
from lucid_relic.io.formats.usdz import write_usdz
from lucid_relic.io.meshes import write_mesh, write_points
from lucid_relic.io.results import placements, write_json
from lucid_relic.operations.parameters import Parameters, param
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import ScanState, TriangleMesh
from lucid_relic.view.picture import picture_of_mesh

UNITS = ("mm", "cm", "m", "in")
TURN_FRAMES, TURN_PX, TURN_MS = 36, 480, 90  # of a moving picture: a turn in a little over three seconds
STILL_PX = 1200
MOST_SHOWN = 120_000  # triangles of a turning view: a page still opens at once
MOST_SLICES = 2000  # of a drawing
FOR_SLICERS = 500_000  # triangles that slicers still bear
Check = dict[str, Any]


@dataclass(frozen=True)
class Told:
    """What is said of an object in what it is delivered with: its title and notes, its summary, its steps so far, and how its
    instruments were checked last."""

    title: str
    stem: str
    notes: str = ""
    summary: Mapping[str, Any] = field(default_factory=dict)
    steps: Sequence[Mapping[str, Any]] = ()
    viewer: str = ""
    checked: Sequence[str] = ()


@dataclass(frozen=True, kw_only=True)
class SlicerWishes(Parameters):
    format: str = param("3mf", "3MF says its unit and carries colour", choices=("3mf", "stl", "obj"))
    triangles: int = param(300_000, "At most so many; 0 leaves them all", low=0, high=20_000_000)
    colour: bool = param(True, "A colour for every vertex, in 3MF")


@dataclass(frozen=True, kw_only=True)
class WebWishes(Parameters):
    triangles: int = param(50_000, "At most so many; 0 leaves them all", low=0, high=20_000_000)
    texture: int = param(2048, "Side of the texture at most; 0 leaves it", unit="texels", low=0, high=8192)
    picture: str = param("jpeg", "Of the texture: JPEG is small, PNG exact", choices=("jpeg", "png"))
    normal_map: bool = param(False, "What reducing takes of the shape, as a picture of normals")
    occlusion: bool = param(False, "How open each place lies, as a picture")
    usdz: bool = param(False, "Also as USDZ, to see it in a room through a telephone")


@dataclass(frozen=True, kw_only=True)
class CadWishes(Parameters):
    format: str = param("stl", "What the program reads", choices=("stl", "ply", "obj"))
    unit: str = param("mm", "What its numbers mean", choices=UNITS)
    up: str = param("z", "Which axis is up there", choices=("z", "y"))
    triangles: int = param(200_000, "At most so many; 0 leaves them all", low=0, high=20_000_000)
    measured_only: bool = param(True, "Leave out what no frame measured")


@dataclass(frozen=True, kw_only=True)
class ArchiveWishes(Parameters):
    points: bool = param(True, "The points of every pass, as PLY and E57")
    mesh: bool = param(True, "The whole surface as OBJ with its texture")
    report: bool = param(True, "The report, the steps and where passes and frames lie")


@dataclass(frozen=True, kw_only=True)
class ShowWishes(Parameters):
    turning: bool = param(True, "A page that turns it, one file without network")
    moving: bool = param(True, "A moving picture (animated WebP)")
    still: bool = param(True, "A still picture on clear ground (PNG)")
    triangles: int = param(MOST_SHOWN, "Of the page at most; 0 leaves them all", low=0, high=5_000_000)


@dataclass(frozen=True, kw_only=True)
class DrawingWishes(Parameters):
    format: str = param("svg", "A drawing at its true size, or polylines for CAD", choices=("svg", "dxf"))
    axis: str = param("z", "The axis that planes stand square to", choices=tuple(AXES))
    every_mm: float = param(5.0, "From plane to plane", unit="mm", low=0.05, high=1000)


@dataclass(frozen=True, kw_only=True)
class ReportWishes(Parameters):
    format: str = param("both", "A page for a browser, one for paper, or both", choices=("both", "html", "pdf"))
    steps: bool = param(True, "Tell every step with its figures")


Make = Callable[[ScanState, Any, Told, Path, Progress], list[Path]]
Judge = Callable[[Mapping[str, Any]], list[Check]]


@dataclass(frozen=True)
class Receiver:
    """One receiver: checks tells of a summary what it needs; make writes its files into a folder."""

    name: str
    title: str
    help: str
    parameters: type[Parameters]
    make: Make
    checks: Judge


def _check(holds: bool, words: str) -> Check:
    return {"holds": bool(holds), "words": words}


def _mesh(summary: Mapping[str, Any]) -> Mapping[str, Any]:
    mesh: Mapping[str, Any] = summary["mesh"]
    return mesh


def _slicer_checks(summary: Mapping[str, Any]) -> list[Check]:
    mesh = _mesh(summary)
    walls = summary.get("walls")
    out = [
        _check(mesh["watertight"], "closed" if mesh["watertight"] else "not closed"),
        _check(summary["upright"], "upright" if summary["upright"] else "not upright"),
        _check(mesh["pieces"] == 1, "one piece" if mesh["pieces"] == 1 else f"{mesh['pieces']} pieces"),
    ]
    if mesh["triangles"] > FOR_SLICERS:
        out.append(_check(False, "many triangles: reduced on the way"))
    if walls and walls["spots"]:
        out.append(_check(False, f"wall {min(s['least_mm'] for s in walls['spots']):.1f} mm"))
    return out


def _web_checks(summary: Mapping[str, Any]) -> list[Check]:
    textured = _mesh(summary)["textured"]
    return [
        _check(textured, "texture" if textured else "no texture"),
        _check(summary["upright"], "upright" if summary["upright"] else "not upright"),
    ]


def _cad_checks(summary: Mapping[str, Any]) -> list[Check]:
    share = _mesh(summary)["made_up_area_fraction"]
    scale = summary.get("scale")
    by_caliper = bool(scale and scale["by_caliper"])
    return [
        _check(True, f"{share:.1%} made up" if share else "nothing made up"),
        _check(by_caliper, "scale by caliper" if by_caliper else "scale unchecked"),
    ]


def _no_checks(summary: Mapping[str, Any]) -> list[Check]:
    return []


def _for_slicer(state: ScanState, wishes: SlicerWishes, told: Told, folder: Path, progress: Progress) -> list[Path]:
    colour = wishes.colour and wishes.format == "3mf"
    mesh = prepared(_surface(state), state.notes, progress, triangles=wishes.triangles, colour=colour)
    return write_mesh(folder / f"{told.stem}.{wishes.format}", with_vertex_colours(mesh))


def _for_web(state: ScanState, wishes: WebWishes, told: Told, folder: Path, progress: Progress) -> list[Path]:
    fine = _surface(state)
    asked = wishes.normal_map or wishes.occlusion
    step = part_of(progress, 0, 0.4 if asked else 1)
    mesh = prepared(fine, state.notes, step, triangles=wishes.triangles, texture=wishes.texture)
    maps = None
    if asked and mesh.texture is not None:
        size = len(mesh.texture.image)
        made = baked(fine, mesh, size, wishes.normal_map, wishes.occlusion, part_of(progress, 0.4, 1))
        maps = SurfaceMaps(vertex_tangents(mesh) if wishes.normal_map else None, made.normal, made.occlusion)
    also = write_usdz(folder / f"{told.stem}.usdz", mesh) if wishes.usdz else []
    return [*write_glb(folder / f"{told.stem}.glb", mesh, wishes.picture, maps), *also]


def _for_cad(state: ScanState, wishes: CadWishes, told: Told, folder: Path, progress: Progress) -> list[Path]:
    mesh = prepared(
        _surface(state), state.notes, progress, triangles=wishes.triangles, colour=False,
        measured_only=wishes.measured_only,
    )  # fmt: skip
    return write_mesh(folder / f"{told.stem}.{wishes.format}", in_frame(mesh, wishes.unit, wishes.up))


def _for_archive(state: ScanState, wishes: ArchiveWishes, told: Told, folder: Path, progress: Progress) -> list[Path]:
    files: list[Path] = []
    if wishes.mesh and state.mesh is not None:
        progress(0.05, "Writing the surface")
        files += write_mesh(folder / f"{told.stem}.obj", prepared(state.mesh, state.notes, progress))
    used = state.used_passes() if wishes.points else ()
    for n, scan in enumerate(used):
        progress(0.2 + 0.6 * n / len(used), f"Writing the points of “{scan.title}”")
        cloud = came_points(scan, True, True) if scan.cloud else pass_points(scan, pixel_spacing(scan), coloured=True)
        placed = cloud.transformed(scan.T_object_pass)
        for kind in ("ply", "e57"):
            path = folder / f"{told.stem}-pass-{n + 1}.{kind}"
            write_points(path, placed)
            files.append(path)
    if wishes.report:
        progress(0.85, "Writing the report")
        files += _for_report(state, ReportWishes(), told, folder, progress)
        for name, data in (("steps", list(told.steps)), ("placements", placements(state))):
            write_json(folder / f"{told.stem}-{name}.json", data)
            files.append(folder / f"{told.stem}-{name}.json")
    if not files:
        raise StepNotPossible("Nothing is chosen for the archive.")
    return files


def _for_showing(state: ScanState, wishes: ShowWishes, told: Told, folder: Path, progress: Progress) -> list[Path]:
    files: list[Path] = []
    whole = _surface(state)
    if wishes.turning:
        mesh = prepared(whole, state.notes, part_of(progress, 0, 0.4), triangles=wishes.triangles, texture=2048)
        files += _written(folder / f"{told.stem}-turning.html", turning_html(mesh, told.title, told.viewer))
    plain = with_vertex_colours(prepared(whole, state.notes, part_of(progress, 0.4, 0.5)))
    if wishes.still:
        picture = Image.fromarray(picture_of_mesh(plain, STILL_PX))
        picture.save(folder / f"{told.stem}.png", "PNG", optimize=True)
        files.append(folder / f"{told.stem}.png")
    if wishes.moving:
        frames = []
        for n in range(TURN_FRAMES):
            progress(0.55 + 0.45 * n / TURN_FRAMES, "Drawing the moving picture")
            frames.append(Image.fromarray(picture_of_mesh(plain, TURN_PX, n * 360 / TURN_FRAMES, turning=True)))
        path = folder / f"{told.stem}.webp"
        frames[0].save(path, "WEBP", save_all=True, append_images=frames[1:], duration=TURN_MS, loop=0, quality=80)
        files.append(path)
    if not files:
        raise StepNotPossible("Nothing is chosen to show.")
    return files


def _for_drawing(state: ScanState, wishes: DrawingWishes, told: Told, folder: Path, progress: Progress) -> list[Path]:
    mesh = _surface(state)
    planes = heights(mesh, wishes.axis, wishes.every_mm)
    if len(planes) > MOST_SLICES:
        raise StepNotPossible(f"{len(planes)} slices; at most {MOST_SLICES} are drawn. Take them farther apart.")
    cut = []
    for n, at in enumerate(planes):
        progress(n / len(planes), "Slicing")
        cut.append(sliced(mesh, wishes.axis, float(at)))
    drawn = slices_svg(cut, wishes.axis, told.title) if wishes.format == "svg" else slices_dxf(cut, wishes.axis)
    return _written(folder / f"{told.stem}-slices.{wishes.format}", drawn)


def _for_report(state: ScanState, wishes: ReportWishes, told: Told, folder: Path, progress: Progress) -> list[Path]:
    progress(0.1, "Drawing its pictures")
    plain = None
    if state.mesh is not None:
        plain = with_vertex_colours(prepared(state.mesh, state.notes, progress, triangles=MOST_SHOWN * 4))
    page = page_of(plain, told.title, told.notes, told.summary, told.steps if wishes.steps else (), told.checked)
    path = folder / f"{told.stem}-report.pdf"
    files = [] if wishes.format == "pdf" else _written(path.with_suffix(".html"), page_html(page))
    if wishes.format != "html":
        path.write_bytes(page_pdf(page))
        files.append(path)
    return files


def _written(path: Path, text: str) -> list[Path]:
    path.write_text(text, encoding="utf-8")
    return [path]


def _surface(state: ScanState) -> TriangleMesh:
    if state.mesh is None or not len(state.mesh.faces):
        raise StepNotPossible("There is no surface to deliver yet. Fuse first.")
    return state.mesh


RECEIVERS = (
    Receiver("slicer", "For a slicer", "Closed, in millimetres, as many triangles as it bears", SlicerWishes,
             _for_slicer, _slicer_checks),
    Receiver("web", "For a game or the web", "GLB in metres, Y up, few triangles, one texture", WebWishes, _for_web,
             _web_checks),
    Receiver("cad", "For CAD", "Only what was measured, in its unit and with its axis up", CadWishes, _for_cad,
             _cad_checks),
    Receiver("archive", "For the archive", "Points of all passes, the whole surface, how it came about", ArchiveWishes,
             _for_archive, _no_checks),
    Receiver("show", "To show", "A page that turns it, a moving picture, a still", ShowWishes, _for_showing,
             _no_checks),
    Receiver("drawing", "For a drawing", "Outlines of slices in millimetres, as SVG or DXF", DrawingWishes, _for_drawing,
             _no_checks),
    Receiver("report", "Report", "One page: size, lengths, measured and made up, steps", ReportWishes, _for_report,
             _no_checks),
)  # fmt: skip


def receiver(name: str) -> Receiver:
    """The receiver of that name; raises `ParameterError` when there is none."""
    found = next((r for r in RECEIVERS if r.name == name), None)
    if found is None:
        raise ParameterError(f"There is no receiver {quoted(name)}; there are: {', '.join(r.name for r in RECEIVERS)}.")
    return found
