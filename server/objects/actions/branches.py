"""Branches of the run sheet: kept true as the head moves, gone to, named, thrown away, begun by a replay."""

from typing import Any

from django.utils import timezone

from objects.actions.guard import acting, acting_job
from objects.errors import NothingThere, Refused
from objects.models import Branch, ScanObject, Snapshot, Step
from objects.selectors import links_of, path_to
from objects.turn import Turn

NO_BRANCH = "This branch is not there any more."
NO_STATE = "This state of the object is not there any more."


def move_head(scan_object: ScanObject, target: Snapshot | None) -> None:
    """Show another state, and keep the branches true to it."""
    scan_object.head = target
    scan_object.save(update_fields=["head"])
    tend(scan_object)


def tend(scan_object: ScanObject) -> None:
    """See that the head lies on the branch that is worked on.

    A branch grows with its steps; what is done after an undo begins a new one, and the old one stays as it was left.
    """
    if scan_object.head_id is None:
        return
    by_after = links_of(scan_object)
    branch = scan_object.branch
    tip = branch.tip_id if branch else None
    path = path_to(scan_object.head_id, by_after)
    ends = {None, *(s.before_id for s in path), scan_object.head_id}
    if branch is not None and tip in ends:
        _grow(branch, scan_object.head)
    elif branch is None or scan_object.head_id not in {s.after_id for s in path_to(tip, by_after)}:
        _begin(scan_object, scan_object.head)


def _grow(branch: Branch, tip: Snapshot | None) -> None:
    if branch.tip_id != (tip and tip.pk):
        branch.tip = tip
        branch.save(update_fields=["tip"])


def _begin(
    scan_object: ScanObject, tip: Snapshot | None, name: str = "", kept: bool = False, job: Any = None
) -> Branch:
    taken = set(scan_object.branches.values_list("name", flat=True))
    own = name or next(f"Branch {n}" for n in range(len(taken) + 1, 10_000) if f"Branch {n}" not in taken)
    made = Branch.objects.create(scan_object=scan_object, name=own, tip=tip, kept=kept, job=job)
    scan_object.branch = made
    scan_object.save(update_fields=["branch"])
    return made


def go_to(object_id: Any, who: Any, snapshot_id: Any, branch_id: int | None = None) -> ScanObject:
    """Show the object as it was at a snapshot and go on from there, on a branch of it or the one that is worked on."""
    with acting(object_id, who) as scan_object:
        tend(scan_object)
        target = scan_object.snapshots.filter(pk=snapshot_id).first() if snapshot_id else None
        if snapshot_id and target is None:
            raise NothingThere(NO_STATE)
        by_after = links_of(scan_object)
        branch = _branch(scan_object, branch_id) if branch_id else _branch_of(scan_object, snapshot_id, by_after)
        _show(scan_object, branch or scan_object.branch, target)
        tend(scan_object)  # a state on no branch begins one
    return scan_object


def _branch_of(scan_object: ScanObject, snapshot_id: Any, by_after: dict[Any, Step]) -> Branch | None:
    """The branch on which a snapshot lies: the one that is worked on when it does."""
    own = [b for b in scan_object.branches.all() if b.pk == scan_object.branch_id]
    others = [b for b in scan_object.branches.order_by("-created") if b.pk != scan_object.branch_id]
    for branch in [*own, *others]:
        if snapshot_id is None or snapshot_id in {s.after_id for s in path_to(branch.tip_id, by_after)}:
            return branch
    return None


def _note_undone(scan_object: ScanObject, snapshot_id: Any, by_after: dict[Any, Step]) -> None:
    """Steps that lead to what is shown are done, all others are not."""
    done = [s.pk for s in path_to(snapshot_id, by_after)]
    Step.objects.filter(pk__in=done).update(undone=None)
    scan_object.steps.filter(undone=None).exclude(pk__in=done).update(undone=timezone.now())


def _branch(scan_object: ScanObject, branch_id: int) -> Branch:
    found = scan_object.branches.filter(pk=branch_id).first()
    if found is None:
        raise NothingThere(NO_BRANCH)
    return found


def go_to_branch(object_id: Any, who: Any, branch_id: int) -> ScanObject:
    """Show the tip of a branch and go on from there."""
    branch = Branch.objects.filter(pk=branch_id, scan_object_id=object_id).first()
    return go_to(object_id, who, branch.tip_id if branch else None, branch_id)


def name_branch(object_id: Any, who: Any, branch_id: int, name: str) -> ScanObject:
    """Name a branch; it is kept until it is thrown away."""
    with acting(object_id, who, while_busy=True) as scan_object:
        branch = _branch(scan_object, branch_id)
        branch.name, branch.kept = name, True
        branch.save(update_fields=["name", "kept"])
    return scan_object


def throw_away_branch(object_id: Any, who: Any, branch_id: int) -> ScanObject:
    """Take a branch off the list; what only it led to goes with the next collections."""
    with acting(object_id, who, while_busy=True) as scan_object:
        branch = _branch(scan_object, branch_id)
        if branch.pk == scan_object.branch_id:
            raise Refused("This is the branch that is worked on. Go to another one first.")
        branch.delete()
    return scan_object


def begin_replay(object_id: Any, from_id: Any, name: str, turn: Turn) -> ScanObject:
    """Begin a branch for a replay and show the state that it starts from; one that was begun before goes on at its tip."""
    with acting_job(object_id, turn) as scan_object:
        made = scan_object.branches.filter(job=turn.job).first()
        if made is not None:
            _show(scan_object, made, made.tip)
            return scan_object
        tend(scan_object)
        target = scan_object.snapshots.filter(pk=from_id).first() if from_id else None
        if from_id and target is None:
            raise NothingThere(NO_STATE)
        _show(scan_object, _begin(scan_object, target, name, kept=True, job=turn.job), target)
    return scan_object


def _show(scan_object: ScanObject, branch: Branch | None, target: Snapshot | None) -> None:
    scan_object.branch, scan_object.head = branch, target
    scan_object.save(update_fields=["branch", "head"])
    _note_undone(scan_object, target and target.pk, links_of(scan_object))


def can_go_on(job: Any) -> bool:
    """Whether the branch of a replay is still there, or was not begun."""
    return Branch.objects.filter(job=job).exists() or not Step.objects.filter(job=job).exists()


def take_back_replay(object_id: Any, turn: Turn, back: dict[str, Any]) -> None:
    """Go back to where a replay began that brought no step."""
    with acting_job(object_id, turn) as scan_object:
        if Step.objects.filter(job=turn.job).exists():
            return
        scan_object.branches.filter(job=turn.job).delete()
        scan_object.branch = scan_object.branches.filter(pk=back["branch"]).first()
        scan_object.head = scan_object.snapshots.filter(pk=back["head"]).first()
        scan_object.save(update_fields=["branch", "head"])
        _note_undone(scan_object, scan_object.head_id, links_of(scan_object))
