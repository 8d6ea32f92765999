"""`manage.py backup`: back the installation up into a new folder, while it runs."""

from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError

from objects.core_door import silent
from operating.backup import BackupError, back_up


class Command(BaseCommand):
    help = "Back the installation up into a new folder, while it runs."

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("target", type=Path)
        parser.add_argument("--earlier", type=Path, help="an earlier backup: what it has already is linked to it")

    def handle(self, *args: Any, **options: Any) -> None:
        try:
            facts = back_up(options["target"].absolute(), silent, options["earlier"])
        except (BackupError, OSError) as error:
            raise CommandError(str(error)) from None
        self.stdout.write(f"{facts['files']} files, {facts['bytes'] / 1e6:.1f} MB, in {options['target']}")
