"""One database of its own for the run, the demo site at small resolution, and a project tied from it."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import settings as hypothesis_settings
from xdist.scheduler import LoadScopeScheduling

from tests.databases import address, fresh_database

# Of two runs side by side each has its own databases, and so has each worker of a run.
RUN = os.environ.get("LANTERN_RUN", "") + os.environ.get("PYTEST_XDIST_WORKER", "")
DATABASE = address(f"lantern_test{RUN}")
os.environ["LANTERN_DATABASE"] = DATABASE
hypothesis_settings.register_profile("lantern", deadline=None, derandomize=True, max_examples=40)
hypothesis_settings.load_profile("lantern")

from taut_lantern.standins.scanner import Scanner  # noqa: E402
from taut_lantern.standins.site import write_site  # noqa: E402
from taut_lantern.store.db import migrate  # noqa: E402
from taut_lantern.store.queue import app as queue  # noqa: E402
from taut_lantern.store.queue import apply_schema  # noqa: E402
from tests.served import Served  # noqa: E402
from tests.support import bring_in, make_project  # noqa: E402


def pytest_sessionstart() -> None:
    """Before anything is collected: the contract test opens the application then."""
    fresh_database(f"lantern_test{RUN}")
    migrate()
    apply_schema()


LONGEST = (
    *("test_layouts", "test_cleaning", "test_story", "test_questions", "test_steps", "test_rooms", "test_tie", "test_run", "test_pairs"),
    *("test_undo", "test_pipes", "test_migration"),
)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Files whose tests take longest come first: two workers then end at about the same time."""
    stem = lambda item: Path(item.nodeid.split("::")[0]).stem  # noqa: E731
    items.sort(key=lambda item: LONGEST.index(stem(item)) if stem(item) in LONGEST else len(LONGEST))


class ByFile(LoadScopeScheduling):  # type: ignore[misc]
    """A file of tests goes to one worker; the two that look at the tied project, which takes a minute or two to make, to the same one."""

    def _split_scope(self, nodeid: str) -> str:
        return nodeid.split("::")[0].replace("truth/test_site.py", "truth/test_cleaning.py")


def pytest_xdist_make_scheduler(config: pytest.Config, log: Any) -> ByFile:
    return ByFile(config, log)


@pytest.fixture(scope="session")
def database() -> Iterator[str]:
    with queue.open():
        yield DATABASE


@pytest.fixture(scope="session")
def site(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """E57 files of all 12 demo stations at 250,000 directions, control.csv, truth.json."""
    folder = tmp_path_factory.mktemp("site")
    write_site(folder, Scanner(points=250_000))
    return folder


@pytest.fixture(scope="session")
def truth(site: Path) -> dict[str, Any]:
    found = json.loads((site / "truth.json").read_text())
    found["stations"] = {k: np.array(v) for k, v in found["stations"].items()}
    return found


@pytest.fixture(scope="session")
def tied(database: str, site: Path) -> str:
    """A project with all stations brought in, tied without a first guess, spheres found."""
    from taut_lantern.site.common import Progress
    from taut_lantern.steps.tie import links, targets

    project = make_project("Ottermere tied")
    bring_in(project, sorted(site.glob("*.e57")))
    links.tie_all(project, {}, Progress())
    targets.find_targets(project, {"radii": [0.1]}, Progress())
    return project


@pytest.fixture(scope="session")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    server = Served(fresh_database(f"lantern_served{RUN}"), tmp_path_factory.mktemp("served") / "log", simulated=True)
    server.start()
    yield server
    server.stop()
