"""What an ear is given of a source bent in other places: one loudness, one distortion, and the clean one clean."""

from dataclasses import replace

import numpy as np
import pytest

from jiyuu.bench.bent import Bent, Way, bent_steps
from jiyuu.bench.demo import BOARDS
from jiyuu.bench.heard import HEARD_RATE_HZ
from jiyuu.bench.setup import SourceSetting
from jiyuu.bench.standing import Standing
from jiyuu.bench.steps.drive import Bend, DriveSetting, DriveStep
from jiyuu.errors import SignalError
from jiyuu.measurement.levels import loudness_lufs

TONE_HZ = 100.0


def standing_of(level_v=5.0):
    standing = Standing.of(BOARDS[5][2])
    inputs = (SourceSetting(kind="sine", pitch_hz=TONE_HZ, level_v=level_v),)
    return standing.moved(setup=standing.setup.model_copy(update={"inputs": inputs}))


def studied(standing, **asked):
    *_, study = DriveStep().predict(standing, DriveSetting(frequency_hz=TONE_HZ, **asked))
    return study


def bent(standing, **asked):
    *_, found = bent_steps(standing, studied(standing, **asked))
    assert isinstance(found, Bent)
    return found


def thd_percent(sound):
    """By the lines of a second of it, on whole hertz."""
    lines = np.abs(np.fft.rfft(sound[HEARD_RATE_HZ : 2 * HEARD_RATE_HZ]))[:: int(TONE_HZ)]
    return 100 * np.sqrt(np.sum(lines[2:21] ** 2)) / lines[1]


@pytest.mark.long
def test_one_loudness_one_distortion():
    found = bent(standing_of(), behind=Bend.HARD, feedback=-0.4, through=Bend.SOFT)
    assert not found.why
    assert list(found.sounds) == list(Way)
    loudness = [loudness_lufs(sound, HEARD_RATE_HZ) for sound in found.sounds.values()]
    assert np.ptp(loudness) < 0.1
    assert max(np.abs(sound).max() for sound in found.sounds.values()) == pytest.approx(0.5)
    distorted = {way: thd_percent(sound) for way, sound in found.sounds.items()}
    assert distorted[Way.CLEAN] < 0.01
    assert distorted[Way.DRIVEN] > 2
    assert distorted[Way.BEHIND] == pytest.approx(distorted[Way.DRIVEN], rel=0.02)  # the curve folds a little at 48 kHz
    apart = found.sounds[Way.DRIVEN] - found.sounds[Way.BEHIND]
    assert np.std(apart) > 0.01 * np.std(found.sounds[Way.DRIVEN])
    assert distorted[Way.FED_BACK] != pytest.approx(distorted[Way.DRIVEN], rel=0.05)


@pytest.mark.long
def test_what_cannot_be_heard_says_why():
    standing = standing_of()
    study = studied(standing, behind=Bend.NONE, feedback=-0.4)
    loose = replace(study, fed_back=replace(study.fed_back, rings_amount=-0.3, settles_v=None))
    *_, found = bent_steps(standing, loose)
    assert list(found.sounds) == [Way.CLEAN, Way.DRIVEN]
    assert "Choose a curve" in found.why[Way.BEHIND]
    assert "Nothing holds that loop" in found.why[Way.FED_BACK]
    assert "goes back first" in bent(standing_of(), behind=Bend.SOFT).why[Way.FED_BACK]
    with pytest.raises(SignalError, match="silent"):
        list(bent_steps(standing_of(level_v=0.0), study))
