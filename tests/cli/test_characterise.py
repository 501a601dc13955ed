"""The whole walk into a folder: what stands in it, and going on where it was broken."""

import json
import time

import numpy as np
import pytest


def test_characterise_writes_a_folder_and_goes_on_where_it_was_broken(run, characterised):
    folder, arguments, out = characterised
    mode = "lowpass-12"
    assert {p.name for p in folder.iterdir()} == {
        "findings.json", f"response-{mode}.csv", f"resonance-{mode}.csv", f"pull-{mode}.csv", f"range-{mode}.csv",
        f"harmonics-{mode}.csv", f"drive-{mode}.csv", f"drive-harmonics-{mode}.csv", "tracking.csv",
        f"pings-{mode}.csv", f"ring-{mode}.csv", f"settling-{mode}.csv", f"character-{mode}.csv",
        "report.html", "report.pdf",
    }
    findings = json.loads((folder / "findings.json").read_text())
    named = {f["quantity"] for f in findings["steps"]["response"]["modes"][mode]["findings"]}
    assert {"cutoff_3db_hz", "slope_db_per_octave", "polarity"} <= named
    page = (folder / "report.html").read_text()
    assert "−3 dB cutoff" in page
    assert page.count("<svg") == 8  # drawing, response, resonance, pitch, tracking, drive, ring, settling
    for said in ("<h2>Tracking", "tracking error", "<h2>Self-oscillation", "Self-oscillates from", "<h2>Resonance"):
        assert said in page
    assert (folder / "report.pdf").read_bytes()[:5] == b"%PDF-"
    stamps = {(folder / f"{name}-{mode}.csv").stat().st_mtime_ns for name in ("response", "resonance")}
    before = {name: (folder / name).read_bytes() for name in ("report.html", "report.pdf")}
    (folder / "report.html").unlink()
    time.sleep(1.1)  # a date inside would be another one
    steps = json.loads(out)["steps"]
    code, again, _ = run(*arguments)
    assert code == 0
    assert json.loads(again)["steps"] == steps
    assert {(folder / f"{name}-{mode}.csv").stat().st_mtime_ns for name in ("response", "resonance")} == stamps
    assert {name: (folder / name).read_bytes() for name in before} == before
    # And what was said of it.
    assert set(steps) == {"setup", "response", "resonance", "self_oscillation", "tracking", "drive", "modulation",
                          "comparison"}
    assert 70 < steps["resonance"]["onset_percent"]["value"] < 100
    table = np.genfromtxt(folder / "resonance-lowpass-12.csv", delimiter=",", names=True)
    assert table["position_percent"][0] == 0
    assert table["body_db"][0] == 0
    assert steps["self_oscillation"]["onset_percent"]["value"] == pytest.approx(
        steps["resonance"]["onset_percent"]["value"], abs=0.3)
    assert len(steps["self_oscillation"]["pull"]) >= 7
    assert {f["quantity"] for f in steps["tracking"]["findings"]} >= {"tracking_error_cents", "scale_v_per_octave"}
    tracked = np.genfromtxt(folder / "tracking.csv", delimiter=",", names=True)
    assert tracked["volts"].tolist() == list(range(9))


def test_another_length_of_sweeps_is_another_characterisation(run, characterised):
    """What was measured with them must not be mixed with what others would have measured."""
    folder, arguments, _ = characterised
    kept = (folder / "findings.json").read_bytes()
    assert json.loads(kept)["asked"] == {"response": {"sweep_s": 1.0}, "resonance": {"positions": 6}}
    longer = [*arguments[:5], "2.5", *arguments[6:]]
    usual = [one for i, one in enumerate(arguments) if i not in (4, 5, 6, 7)]
    for other in (longer, usual):
        code, out, err = run(*other)
        assert (code, out) == (2, "")
        assert "holds the results of another length or number of sweeps" in err
    assert (folder / "findings.json").read_bytes() == kept


def test_sweeps_and_positions_out_of_range_are_refused_by_name(refused, tmp_path):
    before = ("characterise", "sallen-key-lowpass", "--out", tmp_path / "never")
    assert "Sweep of 0.1 s is out of range; type 0.5 to 30 s" in refused(*before, "--sweep-s", "0.1")
    assert "Positions of 3 is out of range; type 5 to 101" in refused(*before, "--positions", "3")
    assert not (tmp_path / "never").exists()
