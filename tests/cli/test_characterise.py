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
    stamp = (folder / f"response-{mode}.csv").stat().st_mtime_ns
    before = {name: (folder / name).read_bytes() for name in ("report.html", "report.pdf")}
    (folder / "report.html").unlink()
    time.sleep(1.1)  # a date inside would be another one
    run(*arguments)
    assert (folder / f"response-{mode}.csv").stat().st_mtime_ns == stamp
    assert {name: (folder / name).read_bytes() for name in before} == before
    # And what was said of it.
    steps = json.loads(out)["steps"]
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
    before = (folder / "resonance-lowpass-12.csv").stat().st_mtime_ns
    code, out, _ = run(*arguments)
    assert code == 0
    assert json.loads(out)["steps"] == steps
    assert (folder / "resonance-lowpass-12.csv").stat().st_mtime_ns == before
