"""E57 (ASTM E2807-11): scans with their poses, in metres; colours are read and written, intensities left."""

from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from lucid_relic.errors import InputError
from lucid_relic.geometry.rigid import is_rigid, transform_points
from lucid_relic.io.files import replacing
from lucid_relic.io.formats.base import Format, ScanOfFile, finite_points, near_origin
from lucid_relic.types import PointCloud

MM_TO_M = 0.001  # E57 is in metres
SIGNATURE = b"ASTM-E57"
MOST_SCANS = 500
AT_ONCE = 500_000  # points read at once, so that memory follows what is kept
MOST_PER_BYTE = 8  # points in a byte of a file: a point that takes no bit of it was made up by a damaged header
PLACES = ("cartesianX", "cartesianY", "cartesianZ"), ("sphericalRange", "sphericalAzimuth", "sphericalElevation")
INVALID = "cartesianInvalidState", "sphericalInvalidState"
ROWS = "rowIndex"  # of points that are ordered as their scanner saw them
CHANNELS = ("colorRed", "colorGreen", "colorBlue")


def read_e57(path: Path) -> list[ScanOfFile]:
    """Every scan of a file, placed by its pose, with the scanner where its pose puts it; places in metres.

    Raises `InputError` for a file that cannot be read or that holds no points.
    """
    import pye57

    with path.open("rb") as source:
        if source.read(len(SIGNATURE)) != SIGNATURE:
            raise InputError(f"{path.name}: this is not an E57 file")
    with closing(pye57.E57(str(path))) as bundle:
        count = bundle.scan_count
        if not 1 <= count <= MOST_SCANS:
            raise InputError(f"{path.name}: {count} scans inside; from 1 to {MOST_SCANS} are read")
        scans = [_scan(path, bundle, index) for index in range(count)]
    posed = sum(one.pose is not None for one in scans)
    _, shift = near_origin(np.concatenate([_ends(one.places) for one in scans]))
    return [
        ScanOfFile(
            points=PointCloud(
                finite_points(path, one.places - shift if shift.any() else one.places), None, one.colours
            ),
            title=one.title,
            unit="m",
            shift=shift,
            scanner=None if one.scanner is None else one.scanner - shift,
            posed=posed > 1 and one.pose is not None,
        )
        for one in scans
    ]


@dataclass(frozen=True)
class _Scan:
    """Places (n, 3) in the file's frame, colours or None, the name, the pose scanner → file, and where the scanner stood."""

    places: np.ndarray
    colours: np.ndarray | None
    title: str
    pose: np.ndarray | None
    scanner: np.ndarray | None


def _ends(places: np.ndarray) -> np.ndarray:
    return np.stack([places.min(axis=0), places.max(axis=0)]) if len(places) else np.zeros((2, 3))


def _scan(path: Path, bundle: Any, index: int) -> _Scan:
    header = bundle.get_header(index)
    total, fields = header.point_count, set(header.point_fields)
    if total > MOST_PER_BYTE * path.stat().st_size:
        raise InputError(f"{path.name}: scan {index + 1} claims {total:,} points, more than the file can hold")
    kind = next((k for k, names in enumerate(PLACES) if set(names) <= fields), None)
    if kind is None:
        raise InputError(f"{path.name}: scan {index + 1} has no places, neither cartesian nor spherical")
    wanted = [*PLACES[kind], *(f for f in (INVALID[kind], *CHANNELS) if f in fields)]
    coloured = set(CHANNELS) <= fields
    places, colours = [], []
    for part in _parts(bundle, header, wanted):
        valid = part[INVALID[kind]] == 0 if INVALID[kind] in part else np.ones(len(part[wanted[0]]), bool)
        own = np.stack([part[name][valid] for name in PLACES[kind]], axis=1)
        places.append((_cartesian(own) if kind else own).astype(np.float32 if _is_near(own) else np.float64))
        if coloured:
            colours.append(np.stack([part[name][valid] for name in CHANNELS], axis=1))
    own = np.concatenate(places) if places else np.empty((0, 3), np.float32)
    if not len(own):
        raise InputError(f"{path.name}: scan {index + 1} holds no valid points")
    pose = _pose(path, header, index)
    if pose is not None:
        own = transform_points(pose, own if _is_near(pose[:3, 3]) else own.astype(np.float64))
    return _Scan(
        own, _bytes_of(np.concatenate(colours), header) if coloured else None, _title(header), pose,
        _scanner(pose, kind == 1 or ROWS in fields),
    )  # fmt: skip


def _scanner(pose: np.ndarray | None, as_measured: bool) -> np.ndarray | None:
    """Where the scanner stood: the origin of points that are kept as they were measured, moved by their pose.

    Programs write a pose of nothing beside points that are no scanner's own; that tells no place.
    """
    moved = pose is not None and not np.allclose(pose, np.eye(4))
    if not moved and not as_measured:
        return None
    return np.zeros(3) if pose is None else pose[:3, 3]


def _parts(bundle: Any, header: Any, wanted: list[str]) -> Any:
    """The columns of a scan, some at a time."""
    columns, buffers = bundle.make_buffers(wanted, min(header.point_count, AT_ONCE))
    reader = header.points.reader(buffers)
    try:
        while count := reader.read():
            yield {name: values[:count].copy() for name, values in columns.items()}
    finally:
        reader.close()


def _is_near(places: np.ndarray) -> bool:
    """Whether single precision keeps a ten-thousandth of a millimetre."""
    return bool(np.abs(places).max(initial=0) < 1.0)


def _cartesian(spherical: np.ndarray) -> np.ndarray:
    """Range, azimuth and elevation (radians) as places (ASTM E2807, 8.4.4)."""
    reach, azimuth, elevation = spherical.T
    flat = reach * np.cos(elevation)
    return np.stack([flat * np.cos(azimuth), flat * np.sin(azimuth), reach * np.sin(elevation)], axis=1)


def _pose(path: Path, header: Any, index: int) -> np.ndarray | None:
    if not header.has_pose():
        return None
    pose = np.eye(4)
    pose[:3, :3], pose[:3, 3] = header.rotation_matrix, header.translation
    if not is_rigid(pose):
        raise InputError(f"{path.name}: the pose of scan {index + 1} is not a rigid motion")
    return pose


def _bytes_of(colours: np.ndarray, header: Any) -> np.ndarray:
    """Colours (n, 3) as bytes; the file says how far its channels reach."""
    try:
        highest = float(header["colorLimits"]["colorRedMaximum"].value())
    except Exception:  # of the library, when the file says nothing
        highest = 255.0
    scale = 255.0 / highest if highest > 255 else 1.0
    return np.clip(np.round(colours * scale), 0, 255).astype(np.uint8)


def _title(header: Any) -> str:
    try:
        return str(header["name"].value())
    except Exception:  # of the library, when a scan has no name
        return ""


def read_e57_points(path: Path) -> PointCloud:
    """The points of all scans together, in millimetres."""
    scans = read_e57(path)
    if len({s.points.colours is None for s in scans}) > 1:
        scans = [ScanOfFile(points=PointCloud(s.points.points), shift=s.shift) for s in scans]
    places = np.concatenate([s.points.points / MM_TO_M + s.shift / MM_TO_M for s in scans])
    colours = None if scans[0].points.colours is None else np.concatenate([s.points.colours for s in scans])
    return PointCloud(places.astype(np.float32), None, colours)


def write_e57(path: Path, cloud: PointCloud) -> None:
    """Write points as one scan in metres, with colours where known."""
    write_e57_scans(path, [(cloud, np.eye(4), "scan")])


def write_e57_scans(path: Path, scans: list[tuple[PointCloud, np.ndarray, str]]) -> None:
    """Write scans as (points mm in the scanner's frame, pose scanner → file in mm, name)."""
    import pye57
    from scipy.spatial.transform import Rotation

    with replacing(path) as out, closing(pye57.E57(out.name, mode="w")) as bundle:
        for cloud, pose, name in scans:
            x, y, z = (cloud.points.astype(np.float64) * MM_TO_M).T
            data = {"cartesianX": x, "cartesianY": y, "cartesianZ": z}
            if cloud.colours is not None:
                data |= {channel: cloud.colours[:, k] for k, channel in enumerate(CHANNELS)}
            turn = Rotation.from_matrix(pose[:3, :3]).as_quat(scalar_first=True)
            bundle.write_scan_raw(data, name=name, rotation=turn, translation=pose[:3, 3] * MM_TO_M)


E57 = Format(
    name="e57",
    suffixes=("e57",),
    help="scans with their poses and colours, metres",
    carries=frozenset({"colours", "unit", "poses"}),
    read_points=read_e57_points,
    write_points=write_e57,
    read_scans=read_e57,
    unit="m",
)
