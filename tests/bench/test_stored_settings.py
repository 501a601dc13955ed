"""Settings under names: never overwritten, called back whole, and everything between two of them valid."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from jiyuu.bench.setup import Setup
from jiyuu.bench.standing import Standing
from jiyuu.bench.stored_settings import among, apart, between, recalling, stored, storing
from jiyuu.circuits.filter_file import neutral_filter
from jiyuu.circuits.linear import poles
from jiyuu.errors import JiyuuError
from jiyuu.wording.acts import act_line

LADDER = neutral_filter("transistor-ladder")


def shapes(hertz, level_db, q):
    return {"stage": "shapes", "id": "s", "bands": [{"kind": "peak", "frequency_hz": hertz, "gain_db": level_db,
                                                     "q": q}]}


def test_what_is_stored_stays_and_what_is_asked_of_steps_is_not_part_of_it():
    kept = {"cutoff_hz": 500.0, "mode": "lowpass-12", "response": {"curve_level_v": 3.0}, "wish": {}}
    first = storing(kept, "  deep   dusk ", "2026-03-05T19:00:00")
    after = {**kept, **first, "cutoff_hz": 900.0}
    (one,) = stored(after)
    assert one.name == "deep dusk"
    assert one.values == {"mode": "lowpass-12", "cutoff_hz": 500.0}
    with pytest.raises(JiyuuError, match="stays as it is"):
        storing(after, "Deep Dusk", "2026-03-06T19:00:00")
    for wrong in ("", "   ", "x" * 61):
        with pytest.raises(JiyuuError, match=r"name|signs"):
            storing(after, wrong, "")
    back = {**after, **{name: value for name, value in recalling(one.values).items() if value is not None}}
    assert back["cutoff_hz"] == 500.0
    assert "response" not in recalling(one.values)
    assert recalling({}) == dict.fromkeys(recalling({}))
    assert act_line("set", {"values": first}) == "settings stored as 'deep dusk'"
    # Damage beside it does not take the others away.
    assert len(stored({**after, "stored: odd": 3, "stored: other": {"values": []}})) == 1


def test_what_two_differ_by_is_said_place_by_place():
    found = {place: (there, here) for place, there, here in apart(
        LADDER, {"cutoff_hz": 500.0}, {"cutoff_hz": 700.0, "parameters": {"compensation": 0.5}})}
    assert found == {"cutoff hz": (500.0, 700.0), "parameters, compensation": (0.0, 0.5)}
    assert apart(LADDER, {}, {"cutoff_hz": LADDER.cutoff_hz}) == []


@given(st.floats(0, 1), st.floats(20, 15_000), st.floats(20, 15_000), st.floats(0, 100), st.floats(0, 100))
def test_between_two_lies_the_middle_by_ratio_and_every_place_is_valid(share, low, high, first, second):
    ends = ({"cutoff_hz": low, "resonance_percent": first}, {"cutoff_hz": high, "resonance_percent": second})
    found = between(LADDER, *ends, share)
    assert found["cutoff_hz"] == pytest.approx(low ** (1 - share) * high**share)
    assert found["resonance_percent"] == pytest.approx((1 - share) * first + share * second)
    standing = Standing.of(LADDER, found)
    assert standing.cutoff_hz == pytest.approx(found["cutoff_hz"])


def test_bands_move_in_log_frequency_decibels_and_log_q_and_stay_stable():
    setups = [Setup.model_validate({"path": [{"stage": "filter", "id": "filter", "filter": "transistor-ladder"},
                                             shapes(*values)]}).model_dump(mode="json")
              for values in ((100.0, 12.0, 8.0), (1600.0, -6.0, 0.5))]
    ends = [{"setup": setup, "resonance_percent": 30.0} for setup in setups]
    for share in np.linspace(0, 1, 9):
        found = between(LADDER, *ends, float(share))
        (_, bands) = found["setup"]["path"]
        (band,) = bands["bands"]
        assert band["frequency_hz"] == pytest.approx(100 * 16**share)
        assert band["gain_db"] == pytest.approx(12 - 18 * share)
        assert band["q"] == pytest.approx(8 * (0.5 / 8) ** share)
        network = Standing.of(LADDER, found).network
        assert poles(network, cutoff_hz=500.0, gain=1.0).real.max() < 0
    with pytest.raises(JiyuuError, match="nothing between them"):
        between(LADDER, ends[0], {}, 0.5)


@given(st.lists(st.tuples(st.floats(20, 15_000), st.floats(0, 100)), min_size=8, max_size=8),
       st.lists(st.floats(0, 1), min_size=3, max_size=3))
def test_a_block_is_weighed_by_how_near_its_corners_are(corners, ways):
    settings = [{"cutoff_hz": hertz, "resonance_percent": percent} for hertz, percent in corners]
    found = among(LADDER, settings, ways)
    weights = [np.prod([way if corner >> k & 1 else 1 - way for k, way in enumerate(ways)]) for corner in range(8)]
    hertz, percent = np.array(corners).T
    assert found["cutoff_hz"] == pytest.approx(np.exp(np.log(hertz) @ weights))
    assert found["resonance_percent"] == pytest.approx(percent @ weights)


def test_ends_of_every_way_are_met_exactly_and_a_line_leads_through_all():
    settings = [{"cutoff_hz": hertz} for hertz in (333.3, 71.7, 1234.5, 900.1)]
    for ways, there in (([0.0], 0), ([1.0], 3), ([1 / 3], 1), ([0.0, 0.0], 0), ([1.0, 0.0], 1), ([0.0, 1.0], 2)):
        assert among(LADDER, settings, ways)["cutoff_hz"] == settings[there]["cutoff_hz"]
    assert among(LADDER, settings, [0.5])["cutoff_hz"] == pytest.approx((71.7 * 1234.5) ** 0.5)
    with pytest.raises(JiyuuError, match="4 settings"):
        among(LADDER, settings[:3], [0.5, 0.5])
