"""`manage.py demo_data`: the Saltreach Museum's objects with their captures, made once."""

from concurrent.futures import ProcessPoolExecutor
from typing import Any

from django.contrib.auth import get_user_model
from django.core.management.base import BaseCommand
from django.db import connections

from accounts.services import DEMO_USER
from objects import actions, core_door
from objects.models import Capture

PASSES = (
    {"title": "upright", "stops": 24, "tip_deg": 0.0},
    {"title": "tipped", "stops": 24, "tip_deg": 90.0},
)
NOT_CAPTURED = ("tile", "float", "float-matted", "lamp", "fender")


class Command(BaseCommand):
    help = "Make the demo objects and their captures; does nothing when they are there."

    def handle(self, *args: Any, **options: Any) -> None:
        user, fresh = get_user_model().objects.get_or_create(username=DEMO_USER)
        if fresh:
            user.set_unusable_password()
            user.save()
        if user.scan_objects.exists():
            return
        self.stdout.write("Modelling and scanning the exhibition (about a minute, once)…")
        plans = []
        for name, demo in core_door.DEMO_OBJECTS.items():
            if name in NOT_CAPTURED:
                continue
            scan_object = actions.create_object(user, demo.title, demo.notes, name)
            for seed, plan in enumerate(PASSES):
                capture = Capture.objects.create(
                    scan_object=scan_object, title=plan["title"], planned=plan["stops"], frames=plan["stops"]
                )
                plans.append((name, plan, seed + 5, capture))
        for name in NOT_CAPTURED:
            demo = core_door.DEMO_OBJECTS[name]
            actions.create_object(user, demo.title, demo.notes, name)
        self._shoot(plans)
        for _, _, _, capture in plans:
            capture.refresh_from_db()
            actions.complete_capture(capture, user.id, None, 0.0)
            self.stdout.write(f"  {capture.scan_object.title}: {capture.title}")

    def _shoot(self, plans: list[Any]) -> None:
        connections.close_all()
        by_model: dict[str, list[Any]] = {}
        for name, plan, seed, capture in plans:
            by_model.setdefault(name, []).append((plan, seed, str(capture.id)))
        with ProcessPoolExecutor(2) as pool:
            list(pool.map(_shoot_model, [*by_model.items(), *((name, []) for name in NOT_CAPTURED)]))


def _shoot_model(entry: tuple[str, list[Any]]) -> None:
    name, passes = entry
    core_door.prepare_model(name)
    for plan, seed, key in passes:
        with core_door.turntable_pass(name, plan, seed, key, 0) as taking:
            while taking is not None and taking.count < taking.planned:
                taking.shoot()
