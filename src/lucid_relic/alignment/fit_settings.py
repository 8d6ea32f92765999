"""The numbers that find fit is steered by, each with its unit and why it is what it is.

Figures “in the trials” are those of the section `trials` of the benchmarks: 60 right and some 130 wrong pairs.
"""

from dataclasses import dataclass


@dataclass(frozen=True, kw_only=True)
class FitSettings:
    """Settings of the search and of the verdict; lengths in mm where they are not said to be shares or multiples."""

    # Search.
    coarse_divisions: float = 55.0  # voxels across the object: descriptors of fewer tell nothing, of more take long
    coarse_spacings: float = 2.0  # least coarse voxel, in spacings of the points: finer ones hold one point each
    fine_spacings: float = 1.3  # least fine voxel, in spacings of the points: finer ones would find no partners
    spacing_sample: int = 4000  # points asked for their nearest neighbour: the median of so many is steady to 1 %
    coarse_rounds: int = 12  # rounds of the first refinement: more changed no ranking in the trials
    min_points: int = 100  # fewer on a side have no shape to look for
    max_refined: int = 14  # candidates that are compared: the right one of a part scan was the eleventh
    close_share: float = 0.3  # of the best score: candidates below it are not refined; right ones came down to 0.45

    # Verdict.
    min_overlap: float = 0.25  # share of the smaller side: common practice asks for a third (JOB: no source)
    min_overlap_unlike: float = 0.35  # the same where only colour speaks for a motion and the shape would take another
    max_free_space_violation: float = 0.02  # share looked through: right fits of the trials stay under 0.003
    max_rival: float = 0.4  # likeness of the next fit, 1 = as good: above it noise may decide between them
    least_wins: int = 6  # patches by which a fit must lead: fewer may be one torn edge
    least_lead: float = 0.08  # share of the patches by which a fit must lead; wrong ones led by 5 %
    least_lead_unlike: float = 0.12  # the same where both know different places: at rims the right one lost by 8 %
    least_gross: int = 14  # or patches where the other is grossly off: wrong ones had 7 at the most, a small knob 16
    win_widths: float = 4.0  # standard deviations of chance by which it must lead
    gross_widths: float = 3.0  # the same among patches where one of both is grossly off
    far_worse: float = 1.0  # mean error, in widths of the noise, by which a motion is worse than one worth comparing
    far_worse_every: int = 8  # of the points tell who is worse by twice that, before all are asked
    max_contradicted: float = 0.2  # share of the patches that may be off: right fits of the trials stay under 0.11
    max_contradicted_by_colour: float = (
        0.05  # the same where only colour tells: right ones under 0.03, wrong ones over 0.09
    )
    little_in_common: float = 0.12  # share of the patches: of less, most lies at rims, where tangent planes err most
    clear_contradiction: float = (
        0.75  # share of those patches that must be off: opposite sides have 0.66, wrong fits 0.8
    )
    max_misfit: float = (
        1.2  # mean error of the patches in those widths: right fits stay under 0.85, wrong ones over 1.7
    )
    slide_voxels: float = 1.5  # how far the weakest motion is tried: a small knob is off by more than the noise there
    tight_share_of_voxel: float = 0.12  # how far two measurements of a place may lie apart, in fine voxels
    tight_share_bare: float = 0.3  # the same for bare points, whose noise is unknown
    tight_noises: float = (
        2.5  # the same in widths of the noise, where that is more: besides it, pixels lie between pixels
    )
    tight_noises_points: float = 2.0  # the same for points that came in, whose noise holds bends of the shape
    min_constraint_strength: float = 0.01  # weakest motion's share of the information: below it the shape slides

    # Turned objects: sweep about the axis that the shape holds least.
    sweep_constraint_strength: float = 0.03  # below it the object is turned about: lathe work lies under 0.01
    sweep_step_deg: float = 4.0  # refinement takes up half a step
    sweep_apart: int = 2  # steps between two turns that are both refined: nearer ones end at the same place
    sweep_kept: int = 5  # distinct turns that are refined with all points


DEFAULT_SETTINGS = FitSettings()
