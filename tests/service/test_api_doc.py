"""docs/api.md works word for word on a fresh start."""

from __future__ import annotations

import re
import subprocess
import tempfile
import unittest
from pathlib import Path

from tests.servers import Service

DOC = Path(__file__).resolve().parents[2] / "docs" / "api.md"


class Doc(unittest.TestCase):
    def test_the_worked_session_runs_as_it_is_written(self) -> None:
        service = Service()
        self.addCleanup(service.stop)
        (script,) = re.findall(r"```sh\n(.*?)```", DOC.read_text(), re.DOTALL)
        self.assertIn("api=http://127.0.0.1:8400/api", script)
        script = script.replace("http://127.0.0.1:8400", service.base)
        with tempfile.TemporaryDirectory() as folder:
            done = subprocess.run(
                ["bash", "-euo", "pipefail", "-c", script], cwd=folder, capture_output=True, text=True, check=False
            )
            self.assertEqual(done.returncode, 0, done.stdout[-2000:] + done.stderr)
            self.assertIn("Nothing moves at the change", done.stdout)
            self.assertGreater((Path(folder) / "cast-off.glb").stat().st_size, 10_000)
