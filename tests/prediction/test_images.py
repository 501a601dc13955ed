"""Images against a crusher that plays: every line where it is said, as loud as it is said, and none elsewhere."""

import numpy as np
import pytest

from jiyuu.prediction.images import images_of
from jiyuu.signals.long_record import Record
from jiyuu.simulation.crusher import Clockwork, crushed

RATE = 48_000.0


@pytest.mark.parametrize(("rate_hz", "lines_hz"), [(6000.0, [400.0]), (7000.0, [300.0, 1100.0, 2900.0]),
                                                   (2500.0, [900.0, 3000.0])])
def test_what_a_crusher_plays_is_lines_and_images(rate_hz, lines_hz):
    lines_hz, volts = np.array(lines_hz), np.array([1.0, 0.7, 0.4])[: len(lines_hz)]
    t = np.arange(96_000) / RATE
    played = (volts[:, np.newaxis] * np.sin(2 * np.pi * lines_hz[:, np.newaxis] * t)).sum(axis=0)
    out = crushed(Record.of(played), Clockwork(rate_hz, 1e-9, 100.0, RATE)).whole()[24_000:72_000]
    found = images_of(rate_hz, lines_hz, volts)
    heard = 2 * np.abs(np.fft.rfft(out)) / out.size
    expected = np.zeros(heard.size, dtype=complex)
    # Lines of one frequency add with their phases, which are told by the reading: a sine stays a sine, folded inverted.
    for hertz, volt in zip(lines_hz, volts, strict=True):
        for m in range(-20, 21):
            place = hertz + m * rate_hz
            if abs(place) < 20_000:
                turn = np.exp(-1j * np.pi * place / rate_hz) * np.sinc(place / rate_hz) * volt
                expected[round(abs(place))] += turn if place >= 0 else -np.conj(turn)
    # Held within a sample of the playing rate, so far as that rate goes.
    assert heard[:18_000] == pytest.approx(np.abs(expected[:18_000]), abs=2e-3)
    places = {round(hertz) for hertz in (*found.image_hz, *found.lines_hz)}
    assert {int(i) for i in np.flatnonzero(heard[:18_000] > 0.01)} <= places
    alone = [round(hertz) for hertz in found.image_hz if round(hertz) < 18_000 and np.sum(
        np.abs(np.concatenate([found.image_hz, found.lines_hz]) - hertz) < 1) == 1]
    for hertz, volt in zip(found.image_hz, found.image_v, strict=True):
        if round(hertz) in alone:
            assert heard[round(hertz)] == pytest.approx(volt, abs=2e-3)


def test_the_loudest_image_is_named():
    found = images_of(6000.0, np.array([660.0, 1320.0]), np.array([1.0, 0.3])).finding(6000.0)
    assert found.context.image_hz == pytest.approx(5340.0)
    assert found.context.of_hz == pytest.approx(660.0)
    true = np.sinc(5340 / 6000) / np.sinc(660 / 6000)
    assert found.value == pytest.approx(20 * np.log10(abs(true)))
    assert images_of(100_000.0, np.array([660.0]), np.array([1.0])).finding(100_000.0) is None
