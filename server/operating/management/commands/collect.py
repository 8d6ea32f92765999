"""`manage.py collect`: give room back now."""

from typing import Any

from django.core.management.base import BaseCommand

from operating import collect

UNITS = {"undone branches": "states", "logs": "rows"}


class Command(BaseCommand):
    help = "Delete what no kept history names: old undone branches, arrays, cache beyond its cap, leftovers, old logs."

    def handle(self, *args: Any, **options: Any) -> None:
        for name, amount in collect.collect().items():
            shown = f"{amount} {UNITS[name]}" if name in UNITS else f"{amount / 1e6:.1f} MB"
            self.stdout.write(f"{name:16} {shown}")
