"""RGB-D folders in the TUM layout: lists, association, trajectories, and the same surface as from a capture folder."""

import json
import shutil
import zipfile
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from scenes import knot_model
from scipy.spatial.transform import Rotation

from lucid_relic.capture.hand import HandPlan, VirtualHandScanner
from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.errors import InputError
from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.io.arrivals import Said, arrive, open_pass_folder
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.io.capture_writer import CaptureWriter
from lucid_relic.io.tum import Lens, write_tum_manifest
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import PassState, ScanState


@pytest.fixture
def rgbd(captures, tmp_path: Path) -> Path:
    """The upright pass of the lump as a device would write it, with its poses as a trajectory."""
    folder = tmp_path / "walk"
    capture = CaptureFolder(captures[0])
    scan = capture.as_pass()
    for name in ("depth", "rgb"):
        (folder / name).mkdir(parents=True)
    lists: dict[str, list[str]] = {"depth": ["# depth maps"], "rgb": ["# colour images"], "trajectory": ["# t x y z q"]}
    for k, frame in enumerate(capture.manifest.frames):
        time = 1305031102.16 + k / 30
        shutil.copy(capture.root / frame.depth, folder / "depth" / f"{time:.6f}.png")
        shutil.copy(capture.root / frame.colour, folder / "rgb" / f"{time + 0.008:.6f}.jpg")
        lists["depth"].append(f"{time:.6f} depth/{time:.6f}.png")
        lists["rgb"].append(f"{time + 0.008:.6f} rgb/{time + 0.008:.6f}.jpg")
        pose = scan.frame_poses[k]
        numbers = [*(pose[:3, 3] / 1000), *Rotation.from_matrix(pose[:3, :3]).as_quat()]
        lists["trajectory"].append(f"{time - 0.004:.6f} " + " ".join(f"{v:.9f}" for v in numbers))
    for name, lines in lists.items():
        (folder / f"{name}.txt").write_text("\n".join(lines) + "\n")
    return folder


def said(capture: Path) -> Said:
    m = CaptureFolder(capture).manifest
    return Said(lens=Lens(m.camera.fx, m.camera.fy, m.camera.cx, m.camera.cy), depth_unit_mm=m.depth_unit_mm)


def test_a_zip_in_the_layout_gives_what_the_capture_folder_gives(rgbd: Path, captures, tmp_path: Path) -> None:
    packed = Path(shutil.make_archive(str(tmp_path / "walk"), "zip", tmp_path, "walk"))
    (folder,) = arrive(packed, tmp_path / "in", said(captures[0]))
    rgbd_pass, own = open_pass_folder(folder), CaptureFolder(captures[0]).as_pass()
    assert np.allclose(rgbd_pass.frame_poses, own.frame_poses, atol=1e-4) and rgbd_pass.posed
    assert rgbd_pass.camera == own.camera
    for k in (0, 5):
        assert (rgbd_pass.source.depth(k) == own.source.depth(k)).all()
        assert (rgbd_pass.source.colour(k) == own.source.colour(k)).all()


def test_the_same_frames_fuse_to_the_same_surface(rgbd: Path, captures, tmp_path: Path) -> None:
    (folder,) = arrive(rgbd, tmp_path / "in", said(captures[0]))
    meshes = []
    for scan in (open_pass_folder(folder), CaptureFolder(captures[0]).as_pass()):
        fuse = get_operation("fuse")
        placed = ScanState((_placed(scan),))
        meshes.append(fuse.run(placed, fuse.parameters(voxel_mm=1.5), silent)[0].mesh)
    assert len(meshes[0].faces) == pytest.approx(len(meshes[1].faces), rel=1e-3)
    low = [m.vertices.min(axis=0) for m in meshes]
    assert np.allclose(*low, atol=0.01)


def _placed(scan: PassState) -> PassState:
    return replace(scan, placed=True, T_object_pass=np.eye(4))


def test_a_pass_by_hand_gives_the_same_result_from_either_folder(tmp_path: Path) -> None:
    """Without poses: tracked, settled and fused alike, since the images and the camera are the same."""
    traits = ScannerTraits(width=200, height=150, focal_px=270.0)
    scanner = VirtualHandScanner(knot_model(1.2), HandPlan(frames=8, turns=0.12), traits, 3)
    writer = CaptureWriter(tmp_path / "capture", {**scanner.manifest(), "tracking": "shape"})
    for index in range(scanner.frame_count()):
        shot = scanner.shoot(index)
        writer.add(shot.depth, shot.colour, time_s=index / 30)
    writer.finish()
    capture = CaptureFolder(tmp_path / "capture")
    walk = tmp_path / "walk"
    for name, kind in (("depth", "depth"), ("rgb", "colour")):
        (walk / name).mkdir(parents=True)
        lines = []
        for frame in capture.manifest.frames:
            image = Path(getattr(frame, kind))
            shutil.copy(capture.root / image, walk / name / image.name)
            lines.append(f"{frame.time_s:.6f} {name}/{image.name}")
        (walk / f"{name}.txt").write_text("\n".join(lines))
    packed = Path(shutil.make_archive(str(tmp_path / "walk"), "zip", tmp_path, "walk"))
    (folder,) = arrive(packed, tmp_path / "in", said(tmp_path / "capture"))
    results = []
    for scan in (open_pass_folder(folder), capture.as_pass()):
        assert not scan.posed
        state = ScanState((_placed(scan),))
        for name, parameters in (("place_frames", {}), ("fuse", {"voxel_mm": 2.0})):
            operation = get_operation(name)
            state, _ = operation.run(state, operation.parameters.from_dict(parameters), silent)
        results.append(state)
    first, second = (r.passes[0] for r in results)
    # Sums over threads come in an order that depends on what else the computer does: seen are 1.3e-6 mm, a ten-thousandth
    # of the noise.
    assert first.frame_in.all() and np.allclose(first.frame_poses, second.frame_poses, atol=1e-5)
    # Where the field is all but flat, so much moves a single vertex farther along it: beside two other processes one was seen.
    off = TriangleTree(results[1].mesh).closest(results[0].mesh.vertices.astype(np.float64))[0]
    assert len(off) == len(results[1].mesh.vertices) and np.quantile(off, 0.999) < 1e-4


def test_images_belong_together_within_twenty_milliseconds(tmp_path: Path) -> None:
    # As the association of the benchmark (Sturm et al. 2012) works: the nearest pairs first, each image once.
    (tmp_path / "depth.txt").write_text("1.000 d0.png\n1.033 d1.png\n1.066 d2.png\n1.100 d3.png\n")
    (tmp_path / "rgb.txt").write_text("0.990 c0.png\n1.012 c1.png\n1.030 c2.png\n1.125 c3.png\n")
    Image.fromarray(np.ones((48, 64), np.uint16)).save(tmp_path / "d0.png")
    write_tum_manifest(tmp_path, "t", Lens(60.0, 60.0, 30.0, 24.0))
    frames = json.loads((tmp_path / "capture.json").read_text())["frames"]
    assert [f.get("colour") for f in frames] == ["c0.png", "c2.png", None, None]
    assert [f["depth"] for f in frames] == ["d0.png", "d1.png", "d2.png", "d3.png"]


def test_what_is_not_said_is_that_of_the_benchmark(rgbd: Path, tmp_path: Path) -> None:
    # Its page recommends fx = fy = 525, cx = 319.5, cy = 239.5 at 640×480, and 5000 counts a metre.
    (rgbd / "trajectory.txt").unlink()
    (folder,) = arrive(rgbd, tmp_path / "in")
    m = CaptureFolder(folder).manifest
    assert m.camera.fx == pytest.approx(525 * m.camera.width / 640)
    assert m.camera.cx == pytest.approx(319.5 * m.camera.width / 640)
    assert m.depth_unit_mm == pytest.approx(0.2) and not CaptureFolder(folder).as_pass().posed


@pytest.mark.parametrize(
    ("name", "line", "said_of_it"),
    [
        ("depth.txt", "abc depth/0.png", "depth.txt, line"),
        ("depth.txt", "1.5", "depth.txt, line"),
        ("trajectory.txt", "1 2 3 4", "trajectory.txt, line"),
        ("trajectory.txt", "1 0 0 0 0 0 0 0", "trajectory.txt, line"),
        ("depth.txt", "9.0 depth/missing.png", "missing.png"),
        ("depth.txt", "9.0 ../../etc/passwd", "no such file"),
    ],
)
def test_a_broken_list_is_refused_with_its_line(
    rgbd: Path, tmp_path: Path, name: str, line: str, said_of_it: str
) -> None:
    with (rgbd / name).open("a") as out:
        out.write(line + "\n")
    with pytest.raises(InputError, match=said_of_it):
        arrive(rgbd, tmp_path / "in")
    assert not (tmp_path / "in").exists()


def test_a_zip_that_lacks_an_image_is_refused(rgbd: Path, tmp_path: Path) -> None:
    with zipfile.ZipFile(tmp_path / "walk.zip", "w") as bundle:
        bundle.write(rgbd / "depth.txt", "walk/depth.txt")
    with pytest.raises(InputError, match=r"walk\.zip: the lists name"):
        arrive(tmp_path / "walk.zip", tmp_path / "in")


def test_a_list_that_is_too_large_is_refused_by_name(rgbd: Path, tmp_path: Path) -> None:
    with (rgbd / "depth.txt").open("a") as out:
        out.write("# filler\n" * 1_000_000)
    packed = Path(shutil.make_archive(str(tmp_path / "walk"), "zip", tmp_path, "walk"))
    for source in (rgbd, packed):
        with pytest.raises(InputError, match=r"depth\.txt: is larger than"):
            arrive(source, tmp_path / "in")
