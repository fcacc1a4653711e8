"""A real firmware on an emulated controller: what a loopback misses is what the firmware has counted."""

import shutil
import subprocess
import sys
from pathlib import Path

import pytest

BOARD = Path(__file__).parents[2] / "examples" / "emulated"
MISSING = [tool for tool in ("arm-none-eabi-gcc", "qemu-system-arm") if shutil.which(tool) is None]


@pytest.mark.skipif(
    bool(MISSING), reason=f"not installed: {', '.join(MISSING)}; examples/emulated/run.sh installs them"
)
def test_losses_of_an_emulated_controller_are_those_that_it_counts():
    done = subprocess.run([sys.executable, BOARD / "check_board.py"], capture_output=True, text=True, check=False)
    assert (done.returncode, done.stderr) == (0, "")
    assert "the firmware counts as many as the loopback misses: True" in done.stdout
    assert "a plain echo in its place: fail" in done.stdout
