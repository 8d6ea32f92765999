"""Whole objects from one installation to another: identical to the bit, steps replayable, damage refused."""

import json
import shutil
import zipfile
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest
from django.contrib.auth import get_user_model

from jobs import services
from jobs.kinds import KINDS
from jobs.models import Job
from lucid_relic.errors import InputError, LucidRelicError
from lucid_relic.io.snapshots import stored_names
from lucid_relic.operations import get_operation
from lucid_relic.progress import silent
from objects import actions, core_door
from objects.errors import Refused
from objects.models import Capture, ScanObject

pytestmark = pytest.mark.django_db(transaction=True)
VOICE = SimpleNamespace(tell=lambda fraction, message: None)


@pytest.fixture
def keeper():
    return get_user_model().objects.create_user("mira", password="tide-and-slate-7")


@pytest.fixture
def whole(keeper, captures, monkeypatch) -> ScanObject:
    """An object of five passes with steps, one of them taken back; two passes are placed, three came later."""
    monkeypatch.setattr(services, "_hand_over", lambda job: None)
    scan_object = actions.create_object(keeper, "Lump № 7", "Found at low tide", "owl")
    actions.remember_set_up(scan_object.pk, keeper, {"stops": 12})
    for folder in captures[:2]:
        taken(scan_object, keeper, folder, folder.name)
    for name in ("place_frames", "stand_cut", "find_fit"):
        step(scan_object, keeper, name, {})
    for n in range(3):
        taken(scan_object, keeper, captures[n % 2], f"later {n}")
    for name, given in (("fuse", {"voxel_mm": 2.0}), ("stand_up", {}), ("set_scale", {"factor": 1.01})):
        step(scan_object, keeper, name, given)
    actions.undo(scan_object.pk, keeper)
    scan_object.refresh_from_db()
    return scan_object


def taken(scan_object: ScanObject, keeper, folder: Path, title: str) -> None:
    capture = Capture.objects.create(scan_object=scan_object, title=title, frames=12, instrument="desk")
    shutil.copytree(folder, core_door.capture_path(str(capture.pk)))
    actions.complete_capture(capture, keeper.pk, None, 1.0)


def step(scan_object: ScanObject, keeper, name: str, given: dict) -> None:
    operation = get_operation(name)
    head = ScanObject.objects.select_related("head").get(pk=scan_object.pk).head
    state, report = operation.run(core_door.load(head.manifest), operation.parameters.from_dict(given), silent)
    checked = core_door.check_operation(name, given)
    done = actions.FinishedStep(checked, json.loads(json.dumps(report, default=str)), 1.0, keeper.pk, None)
    actions.record_step(scan_object.pk, head.pk, state, done)


def packed(scan_object: ScanObject, path: Path) -> Path:
    core_door.pack_bundle(actions.bundle_document(scan_object), path, silent)
    return path


def sent(scan_object: ScanObject, keeper, *files: Path) -> Job:
    """A job that imports copies of files, at its turn."""
    uploads = []
    for n, file in enumerate(files):
        upload = file.with_name(f"upload-{n}-{scan_object.pk}")
        shutil.copy(file, upload)
        uploads.append((str(upload), file.name))
    return services.claim(services.start_import(scan_object, keeper, uploads).pk)


def elsewhere(settings, tmp_path: Path) -> None:
    """Another data folder from now on."""
    settings.DATA = tmp_path / "second"
    for name in ("captures", "store", "cache", "uploads"):
        (settings.DATA / name).mkdir(parents=True)


def test_an_object_moves_to_another_data_folder_identical_to_the_bit(whole, keeper, settings, tmp_path) -> None:
    first = settings.DATA
    file = packed(whole, tmp_path / "lump-bundle.zip")
    elsewhere(settings, tmp_path)
    there = actions.create_object(keeper, "lump-bundle")
    job = sent(there, keeper, file)
    assert KINDS["import"].run(job, VOICE)["passes"] == 5
    services.end(job.turn, Job.State.DONE, "Done")
    there.refresh_from_db()
    assert (there.title, there.notes, there.demo_model, there.set_up) == (
        "Lump № 7",
        "Found at low tide",
        "owl",
        {"stops": 12},
    )

    # Every array and every file of the captures is the same; captures and states have names of their own.
    mine, yours = list(whole.snapshots.order_by("created")), list(there.snapshots.order_by("created"))
    assert len(mine) == len(yours) == 11 and not {s.pk for s in mine} & {s.pk for s in yours}
    for one, two in zip(mine, yours, strict=True):
        names = stored_names(one.manifest)
        assert names == stored_names(two.manifest)
        for name in names:
            path = f"store/{name[:2]}/{name}.npy"
            assert (first / path).read_bytes() == (settings.DATA / path).read_bytes()
        assert [p["fit_mm"] for p in one.summary["passes"]] == [p["fit_mm"] for p in two.summary["passes"]]
        assert one.findings == two.findings
    assert {(c.title, c.instrument) for c in there.captures.all()} == {(c.title, "desk") for c in whole.captures.all()}
    assert there.captures.count() == 5
    for capture in there.captures.all():
        was = whole.captures.get(title=capture.title)
        old, new = first / "captures" / str(was.pk), settings.DATA / "captures" / str(capture.pk)
        assert {p.relative_to(old): p.read_bytes() for p in old.rglob("*") if p.is_file()} == {
            p.relative_to(new): p.read_bytes() for p in new.rglob("*") if p.is_file()
        }

    # The run sheet goes on where it stood: undone steps come back, and a step run again gives the same.
    steps = list(there.steps.all())
    assert [s.operation for s in steps] == [s.operation for s in whole.steps.all()]
    assert steps[-1].undone and actions.redo(there.pk, keeper).operation == "set_scale"
    actions.undo(there.pk, keeper)
    fuse = next(s for s in steps if s.operation == "fuse")
    state, _ = get_operation("fuse").run(
        core_door.load(fuse.before.manifest), get_operation("fuse").parameters.from_dict(fuse.parameters), silent
    )
    before = core_door.load(fuse.after.manifest).mesh
    assert np.array_equal(state.mesh.vertices, before.vertices) and np.array_equal(state.mesh.faces, before.faces)

    # The same bundle once more is another object, and shares the arrays.
    again = actions.create_object(keeper, "again")
    KINDS["import"].run(sent(again, keeper, file), VOICE)
    assert again.captures.count() == 5 and not set(again.captures.all()) & set(there.captures.all())


def test_what_is_damaged_or_does_not_belong_is_refused_and_nothing_is_half_done(
    whole, keeper, settings, tmp_path
) -> None:
    file = packed(whole, tmp_path / "lump-bundle.zip")
    elsewhere(settings, tmp_path)
    empty = actions.create_object(keeper, "empty")
    damaged = tmp_path / "damaged.zip"
    with zipfile.ZipFile(file) as source, zipfile.ZipFile(damaged, "w") as target:
        for entry in source.infolist():
            data = source.read(entry)
            target.writestr(entry.filename, data[:-7] if entry.filename.endswith("000003.png") else data)
    with pytest.raises(InputError, match="damaged.zip.*not what it was"):
        KINDS["import"].run(job := sent(empty, keeper, damaged), VOICE)
    assert not empty.steps.exists() and not empty.captures.exists()
    assert not list((settings.DATA / "store").rglob("*.npy")) and not list((settings.DATA / "captures").iterdir())
    services.end(job.turn, Job.State.FAILED, "Not done")

    # Beside other files, or into an object that has steps, it is refused in words.
    with pytest.raises(InputError, match="by itself"):
        KINDS["import"].run(job := sent(empty, keeper, file, damaged), VOICE)
    services.end(job.turn, Job.State.FAILED, "Not done")
    KINDS["import"].run(job := sent(empty, keeper, file), VOICE)
    services.end(job.turn, Job.State.DONE, "Done")
    with pytest.raises(Refused, match="shelf"):
        KINDS["import"].run(sent(empty, keeper, file), VOICE)
    assert empty.captures.count() == 5


def test_a_bundle_is_a_receiver(whole, keeper) -> None:
    told = core_door.receivers({}, {})[-1]
    assert told["name"] == core_door.BUNDLE and not told["parameters"]
    wish = core_door.check_wishes("bundle", {})
    facts = {"title": "Lump", "stem": "lump", "notes": "", "steps": []}
    job = services.claim(services.start_delivery(whole, keeper, [wish], facts).pk)
    made = KINDS["deliver"].run(job, VOICE)
    assert made["name"] == "lump-bundle.zip" and core_door.is_bundle(core_door.shown_file(made["file"]))
    with pytest.raises(LucidRelicError, match="nothing to choose"):
        core_door.check_wishes("bundle", {"steps": False})
