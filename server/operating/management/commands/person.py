"""`manage.py person`: people who may sign in."""

import getpass
import os
import sys
from typing import Any

from django.contrib.auth import get_user_model
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.core.management.base import BaseCommand, CommandError

from accounts.models import Allowance
from objects.quota import GB, allowed_bytes, taken_bytes

PASSWORD = "LUCID_RELIC_PASSWORD"
Person = get_user_model()


class Command(BaseCommand):
    help = "Add people, set passwords and room, let them in or keep them out, list them."

    def add_arguments(self, parser: Any) -> None:
        acts = parser.add_subparsers(dest="act", required=True)
        acts.add_parser("list", help="who there is and what their objects take")
        for act, help_ in (
            ("add", "a new person; the password is asked for, or read from standard input or LUCID_RELIC_PASSWORD"),
            ("password", "another password; all their sessions end"),
            ("out", "no longer let them in; their objects stay"),
            ("in", "let them in again"),
            ("room", "how much room their objects may take"),
        ):
            sub = acts.add_parser(act, help=help_)
            sub.add_argument("name")
            if act == "add":
                sub.add_argument("--administrator", action="store_true", help="may use /admin/ too")
            if act == "room":
                sub.add_argument("gigabytes", type=float, help="0 is no limit")

    def handle(self, *args: Any, **options: Any) -> None:
        if options["act"] == "list":
            return self._list()
        if options["act"] == "add":
            return self._add(options["name"], options["administrator"])
        person = Person.objects.filter(username=options["name"]).first()
        if person is None:
            raise CommandError(f"There is nobody with the name “{options['name']}”; `person list` shows all.")
        if options["act"] == "password":
            person.set_password(self._password(person))
            person.save()
        elif options["act"] == "room":
            if not 0 <= options["gigabytes"] < 1e9:
                raise CommandError("The room is a number of gigabytes; 0 is no limit.")
            Allowance.objects.update_or_create(person=person, defaults={"gigabytes": options["gigabytes"]})
        else:
            person.is_active = options["act"] == "in"
            person.save()
        self.stdout.write(f"{person.username}: done.")

    def _add(self, name: str, administrator: bool) -> None:
        person = Person(username=name, is_staff=administrator, is_superuser=administrator)
        try:
            person.full_clean(exclude=["password"])
        except ValidationError as error:
            raise CommandError("; ".join(error.messages)) from None
        person.set_password(self._password(person))
        person.save()
        self.stdout.write(f"{name} may sign in now.")

    def _password(self, person: Any) -> str:
        if os.environ.get(PASSWORD):
            password = os.environ[PASSWORD]
        elif sys.stdin.isatty():
            password = getpass.getpass(f"Password of {person.username}: ")
        else:
            password = sys.stdin.readline().rstrip("\n")
        try:
            validate_password(password, person)
        except ValidationError as error:
            raise CommandError(" ".join(error.messages)) from None
        return password

    def _list(self) -> None:
        for person in Person.objects.order_by("username"):
            allowed = allowed_bytes(person)
            room = f"{taken_bytes(person) / GB:.2f} GB of {'any' if allowed is None else f'{allowed / GB:g} GB'}"
            kind = "administrator" if person.is_staff else "person"
            self.stdout.write(f"{person.username:24} {kind if person.is_active else 'kept out':14} {room}")
