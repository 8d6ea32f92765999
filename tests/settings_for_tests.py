"""The project's settings on a data folder that belongs to this test process alone."""

import os
import tempfile
from pathlib import Path

# Child processes of a test process load these settings too and must find the same folder; two test processes that
# run side by side must not.
process = os.environ.get("PYTEST_XDIST_WORKER", "alone")
if process != "alone":
    # Two test processes share two cores: compiled loops that take both each would only fight for them. It must be said
    # before anything compiled is loaded.
    os.environ["NUMBA_NUM_THREADS"] = "1"
if os.environ.get("LUCID_RELIC_TEST_RUN") != process:
    os.environ["LUCID_RELIC_TEST_RUN"] = process
    os.environ["LUCID_RELIC_DATA"] = tempfile.mkdtemp(prefix="lucid-relic-test-")
    os.environ.pop("LUCID_RELIC_DEMO", None)

# The fork server of jobs finds these settings only here; without them it would load nothing ahead, and every child all of it.
tests = str(Path(__file__).parent)
paths = [p for p in os.environ.get("PYTHONPATH", "").split(os.pathsep) if p and p != tests]
os.environ["PYTHONPATH"] = os.pathsep.join([tests, *paths])

from config.settings import *  # noqa: E402, F403
