"""The house itself: what is loaded where."""

from __future__ import annotations

import subprocess
import sys


def test_neither_jobs_nor_the_server_load_the_simulator() -> None:
    code = "import sys, taut_lantern.work.ready, taut_lantern.api.app; print([m for m in sys.modules if 'standins' in m or 'trimesh' in m or 'embree' in m])"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"
