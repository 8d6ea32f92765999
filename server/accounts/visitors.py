"""Somebody who holds a link to look at an object and has no account."""

from dataclasses import dataclass
from typing import Any

KEY = "looks_by_link"  # in the session: ids of the links that were opened
MOST = 50  # links that one browser remembers


@dataclass(frozen=True)
class Visitor:
    """Stands where a user stands; may see what its links show, as long as they hold."""

    links: tuple[int, ...]

    id = None
    pk = None
    username = ""
    is_authenticated = True
    is_active = True
    is_anonymous = False
    is_staff = False


def visitor_of(session: Any) -> Visitor | None:
    """The visitor of a session, or None when no link was opened in it."""
    links = session.get(KEY)
    return Visitor(tuple(links)) if links else None


def remember_link(session: Any, link_id: int) -> None:
    """Let the browser of a session look through one link more."""
    session[KEY] = sorted({*session.get(KEY, ()), link_id})[-MOST:]
