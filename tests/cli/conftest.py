import pytest

from larkreader.cli import run


@pytest.fixture
def shell(capsys, monkeypatch):
    """Run the command in this process; return status, standard output and standard error."""
    monkeypatch.setenv("COLUMNS", "80")

    def call(*arguments):
        status = run([str(one) for one in arguments])
        out, err = capsys.readouterr()
        return status, out, err

    return call
