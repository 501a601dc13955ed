"""Menu entry, icon, kinds of files: where the desktop looks for them, as it reads them, and gone again."""

import configparser
from importlib.resources import files
from pathlib import Path
from xml.etree import ElementTree

import pytest

from jiyuu.cli.entry import main
from jiyuu.cli.install_desktop import PLACES
from jiyuu.cli.install_desktop import _quoted as quoted


@pytest.fixture
def data(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "share"))
    return tmp_path / "share"


def test_it_is_installed_as_the_desktop_reads_it_and_removed(data, capsys):
    assert main(["install-desktop"]) == 0
    assert {str(path.relative_to(data)) for path in data.rglob("*") if path.is_file()} >= set(PLACES.values())
    entry = configparser.ConfigParser(interpolation=None)
    entry.optionxform = str
    entry.read(data / PLACES["packaging/jiyuu.desktop"])
    desktop = entry["Desktop Entry"]
    program, field = desktop["Exec"].rsplit(" ", 1)
    assert Path(program.strip('"')).is_absolute()
    assert field == "%F"
    kinds = set(desktop["MimeType"].strip(";").split(";"))
    space = "{http://www.freedesktop.org/standards/shared-mime-info}"
    mime = ElementTree.parse(data / PLACES["packaging/jiyuu-mime.xml"])
    assert {one.get("type") for one in mime.iter(f"{space}mime-type")} == kinds
    assert {one.get("pattern") for one in mime.iter(f"{space}glob")} == {"*.jiyuu", "*.filter.json", "*.patch.json"}
    described = ElementTree.parse(data / PLACES["packaging/jiyuu.metainfo.xml"])
    assert {one.text for one in described.iter("mediatype")} == kinds
    assert described.findtext("launchable") == "jiyuu.desktop"
    assert main(["install-desktop", "--remove"]) == 0
    assert not [path for path in data.rglob("jiyuu*") if path.is_file()]
    capsys.readouterr()
    assert main(["install-desktop", "--remove"]) == 0
    assert "Nothing was there" in capsys.readouterr().out


def test_a_book_is_told_by_its_first_bytes():
    from jiyuu.book.opening import APPLICATION_ID

    text = files("jiyuu.desktop").joinpath("packaging/jiyuu-mime.xml").read_text()
    assert f'offset="68" value="0x{APPLICATION_ID:08X}"' in text


def test_a_place_that_cannot_be_made_is_named(data, capsys):
    data.write_text("a file")
    assert main(["install-desktop"]) == 2
    assert "XDG_DATA_HOME" in capsys.readouterr().err


def test_a_program_in_an_odd_place_is_quoted():
    assert quoted(Path("/opt/jiyuu/bin/jiyuu")) == "/opt/jiyuu/bin/jiyuu"
    assert quoted(Path('/home/a b/"x"/100%/jiyuu')) == '"/home/a b/\\"x\\"/100%%/jiyuu"'
