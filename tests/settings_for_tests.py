"""The project's settings on a data folder that belongs to this test run alone."""

import os
import tempfile

# Child processes of a test run load these settings too and must find the same folder.
if "LUCID_RELIC_TEST_RUN" not in os.environ:
    os.environ["LUCID_RELIC_TEST_RUN"] = "1"
    os.environ["LUCID_RELIC_DATA"] = tempfile.mkdtemp(prefix="lucid-relic-test-")
    os.environ.pop("LUCID_RELIC_DEMO", None)

from config.settings import *  # noqa: F403
