"""What all tests of the server share."""

import pytest
from asgiref.sync import sync_to_async


@pytest.fixture
def maker(monkeypatch):
    """Files are made here, in place of the live service, which has tests of its own."""
    from api import files
    from live.making import make

    async def made(what: str, **facts: object):
        return await sync_to_async(make)({"what": what, **facts})

    monkeypatch.setattr(files, "made", made)


@pytest.fixture
def queued(monkeypatch) -> list[str]:
    """What was handed to the task queue, which does nothing here."""
    from jobs import tasks

    handed: list[str] = []
    monkeypatch.setattr(type(tasks.run_job), "enqueue", lambda self, job_id: handed.append(job_id))
    return handed
