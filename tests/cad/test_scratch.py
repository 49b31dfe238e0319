"""What a killed process leaves of customers' files goes; what others are at stays."""

import os
import subprocess
import sys
import tempfile
from pathlib import Path

from zipplumb.cad.scratch import PREFIX, scratch, sweep

KILLED = """
import os, signal
from zipplumb.cad.scratch import scratch
with scratch() as folder:
    (folder / "part.step").write_text("a customer's part")
    os.kill(os.getpid(), signal.SIGKILL)
"""


def test_only_what_a_killed_process_left_is_removed(tmp_path, monkeypatch):
    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path))
    subprocess.run([sys.executable, "-c", KILLED], env={**os.environ, "TMPDIR": str(tmp_path)}, check=False)
    assert len(list(tmp_path.glob(f"{PREFIX}*/part.step"))) == 1
    (tmp_path / "somebody-elses").mkdir()
    with scratch() as mine:
        assert sweep() == 1
        assert mine.is_dir() and sorted(Path(tmp_path).iterdir()) == sorted([mine, tmp_path / "somebody-elses"])
    assert not mine.exists()
