"""Commands as a person calls them; one filter characterised into a folder for all who need it."""

import contextlib
import io
import shutil

import pytest

from jiyuu.cli.entry import main
from tests.benching import listen_briefly

CHARACTERISE = ("characterise", "sallen-key-lowpass", "--seed", "3", "--sweep-s", "1.0", "--positions", "6", "--json",
                "--out")


@pytest.fixture
def run(capfd):
    def call(*arguments):
        code = main([str(a) for a in arguments])
        out, err = capfd.readouterr()
        return code, out, err

    return call


@pytest.fixture
def refused(run):
    """Runs a command that must be refused; returns its one line."""

    def call(*arguments):
        code, out, err = run(*arguments)
        assert code == 2, (out, err)
        assert out == ""
        assert err.startswith("jiyuu: ")
        assert err.count("\n") == 1
        assert "Traceback" not in err
        return err

    return call


@pytest.fixture(scope="session")
def characterised_once(tmp_path_factory):
    folder, out = tmp_path_factory.mktemp("characterised") / "f", io.StringIO()
    with (contextlib.redirect_stdout(out), contextlib.redirect_stderr(io.StringIO()),
          pytest.MonkeyPatch.context() as patched):
        listen_briefly(patched)
        assert main([*CHARACTERISE, str(folder)]) == 0
    return folder, out.getvalue()


@pytest.fixture
def characterised(characterised_once, tmp_path):
    """A folder of one's own, what called it, what was printed."""
    folder, out = characterised_once
    shutil.copytree(folder, tmp_path / "f")
    return tmp_path / "f", (*CHARACTERISE, tmp_path / "f"), out
