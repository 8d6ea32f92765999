"""`manage.py restore`: put a backup into the empty data folder that LUCID_RELIC_DATA names."""

from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandError

from objects.core_door import silent
from operating.backup import BackupError, restore


class Command(BaseCommand):
    help = "Put a backup into the empty data folder that LUCID_RELIC_DATA names."

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("source", type=Path)

    def handle(self, *args: Any, **options: Any) -> None:
        try:
            count = restore(options["source"], settings.DATA, silent)
        except (BackupError, OSError) as error:
            raise CommandError(str(error)) from None
        self.stdout.write(f"{count} files are back in {settings.DATA}. Start it with `manage.py serve`.")
