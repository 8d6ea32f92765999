"""What the accuracy sheet says of itself, against the truth of captures that it does not know."""

from dataclasses import replace

import numpy as np
from scanned import PLACING, Captured, Lines, after, captured, npm_mesh, opened, table

from lucid_relic.demo.objects import DEMO_OBJECTS, demo_model
from lucid_relic.fusion.polygonise import polygonise_open
from lucid_relic.fusion.repeatability import repeatability
from lucid_relic.fusion.tsdf import fuse_volume
from lucid_relic.geometry.off import signed_off
from lucid_relic.geometry.rigid import inverse, transform_points
from lucid_relic.inspection.uncertainty import uncertainty
from lucid_relic.operations.fuse.own_voxel import own_voxel
from lucid_relic.operations.set.accuracy import MEAN_OF_NORMAL
from lucid_relic.progress import silent

OBJECTS = ("dragon", "bunny", "owl", "stamp", "bell")


def made(name: str) -> Captured:
    """Two passes of 24 stops of an object: of the exhibition with its own head, else a scanned mesh."""
    if name in DEMO_OBJECTS:
        return captured(f"acc-{name}", demo_model(name).mesh, traits=DEMO_OBJECTS[name].traits)
    return captured(name, npm_mesh(name))


def accuracy() -> Lines:
    """Repeatability and uncertainty of fused surfaces beside their true error."""
    rows = []
    for name in OBJECTS:
        capture = made(name)
        state = after(opened(capture), PLACING).for_surface()
        voxel = own_voxel(state, "even")
        state = replace(state, mesh=polygonise_open(fuse_volume(state, voxel, silent), silent))
        told = uncertainty(state)
        halves = repeatability(state, voxel, told.places, silent)
        truth = capture.scanners[0].truth_poses()[0] @ inverse(state.passes[0].T_object_camera(0))
        error = signed_off(capture.mesh, transform_points(truth, told.places))
        sigma = told.sigma_mm(told.averaged(halves.apart_mm))
        known = ~np.isnan(error) & ~np.isnan(sigma)
        e, s = np.abs(error[known]), sigma[known]
        quarter = [float((e[part] <= s[part]).mean()) for part in np.array_split(np.argsort(s), 4)]
        true, said = float(e.mean()), float(s.mean()) * MEAN_OF_NORMAL
        rows.append(
            f"| {name} | {voxel:.3f} | {true:.4f} | {said:.4f} | {said / true - 1:+.0%} | {halves.rms_mm:.4f} "
            f"| {(e <= s).mean():.1%} | {' '.join(f'{q:.0%}' for q in quarter)} | {(e <= 2 * s).mean():.1%} |"
        )
    head = (
        "| object | voxel mm | true error, mean mm | expected mm | off | repeatability mm | within 1 σ | by quarters of σ "
        "| within 2 σ |"
    )
    note = (
        "Two passes of 24 stops, placed and fused at the pixels' spacing; 40 000 places each. Expected: the mean of a normal "
        "variable of the uncertainty told; within 1 σ are 68.3 % of it, within 2 σ 95.4 %."
    )
    return ["## Accuracy told, beside the truth", "", note, "", *table(head, rows)]
