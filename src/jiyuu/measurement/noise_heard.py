"""The passages of a recording of noise, each with the whole of what a filter made of it, and where they begin."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from jiyuu.arrays import ComplexArray, FloatArray
from jiyuu.errors import MeasurementError
from jiyuu.measurement.alignment import Passages
from jiyuu.measurement.made_ready import Ready
from jiyuu.measurement.network_fit import NetworkFit
from jiyuu.measurement.sent_through import Played
from jiyuu.signals.transforms import irfft, rfft
from jiyuu.stopping import checkpoint

END_S, RINGS_ON, CLEARLY = 0.05, 0.4, 3.0  # of what is looked at; re the passage, and re what came before it
RING_S = 0.3  # how long a filter may ring after the stimulus
FAR_SAMPLES, TOLD_BY = 8, 8.0  # less may be the filter's own; times what phases come to together by chance


@dataclass(frozen=True, slots=True, eq=False)
class Heard:
    """The sound passages of a recording that are whole: pieces_v from `lead` samples before each on; over bins_hz (m,)
    what was played, and the mean of what came; independent: share of the bins that know something of their own."""

    pieces_v: list[FloatArray]
    lead: int
    bins_hz: FloatArray
    stimulus: ComplexArray
    output: ComplexArray
    independent: float

    @classmethod
    def of(cls, ready: Ready, passages: Passages, sample_rate_hz: float) -> Heard:
        record, place = ready.record_v, ready.place
        length = passages.passage_v.size
        room = passages.period - length if passages.period else record.size - place - length
        lead = min(round(0.01 * sample_rate_hz), place + ready.sound[0] * passages.period)
        tail = min(max(room - lead, 0), round(RING_S * sample_rate_hz))
        size = 1 << int(np.ceil(np.log2(length + lead + tail)))
        pieces = []
        for i in ready.sound:
            begin = place + i * passages.period - lead
            piece = record[begin : begin + lead + length + tail]
            if piece.size >= lead + length:
                pieces.append(piece)
        spectra = []
        for piece in pieces:
            checkpoint()
            spectra.append(rfft(piece, size))
        bins_hz: FloatArray = np.asarray(np.fft.rfftfreq(size, 1 / sample_rate_hz), dtype=np.float64)
        output = np.mean(spectra, axis=0) * np.exp(2j * np.pi * bins_hz * lead / sample_rate_hz) if spectra else (
            np.zeros(bins_hz.size, dtype=complex))
        # Padding makes neighbouring bins share what they know of the noise.
        return cls(pieces, lead, bins_hz, rfft(passages.passage_v, size), output, (lead + length + tail) / size)

    def uncut(self, network: NetworkFit, ready: Ready, passages: Passages) -> Heard:
        """As if a ring, which a network tells, were heard to its end and none were left of the passage before."""
        size, lead = 2 * (self.bins_hz.size - 1), self.lead
        longest = max(piece.size for piece in self.pieces_v) - lead
        played = Played.of(passages.passage_v, 2 * float(self.bins_hz[-1]), followed=passages.period + longest)
        rings_v = played.behind(network)  # what little of it comes before it was played stands at the end
        cut = np.zeros(size)
        for which, piece in zip(ready.sound, self.pieces_v, strict=False):
            count = piece.size - lead
            cut[:count] += rings_v[:count]
            cut[size - lead :] += rings_v[rings_v.size - lead :]
            if which and passages.period:
                before = rings_v[passages.period - lead : passages.period + count]
                cut[size - lead :] += before[:lead]
                cut[:count] += before[lead:]
        whole = self.stimulus * network.at(self.bins_hz)
        return replace(self, output=self.output + whole - rfft(cut / len(self.pieces_v)))


def refuse_ringing(heard: Heard, ready: Ready, passages: Passages, sample_rate_hz: float) -> None:
    """Raises MeasurementError where the filter still rings when what is looked at of a passage ends: cut off there a
    ring is heard all over the band."""
    place = 0 if ready.sound[0] else ready.place  # ahead of a later one rings the one before
    before = ready.record_v[max(place - round(2 * END_S * sample_rate_hz), 0) : max(place - heard.lead, 0)]
    if before.size < 0.5 * END_S * sample_rate_hz or not before.any():
        return  # nothing tells noise from a ring
    if heard.pieces_v[0].size < heard.lead + passages.passage_v.size + 2 * END_S * sample_rate_hz:
        return  # it ends while the passage sounds
    end = heard.pieces_v[0][-round(END_S * sample_rate_hz) :]
    if np.std(end) > max(RINGS_ON * np.std(heard.pieces_v[0]), CLEARLY * np.std(before)):
        raise MeasurementError("The filter still rings when a passage of the noise has long ended; turn its resonance "
                               "down, or measure it with a sweep.")


def in_place(ready: Ready, passages: Passages, sample_rate_hz: float) -> Ready:
    """What was made ready, its passages where the phases of all that is heard come together: what is loudest behind a
    narrow band comes long after what it was played for."""
    heard = Heard.of(ready, passages, sample_rate_hz)
    if not heard.pieces_v:
        return ready
    turned = heard.output * np.conj(heard.stimulus)
    together = np.abs(irfft(turned / np.maximum(np.abs(turned), 1e-300), 2 * (turned.size - 1)))
    later = int(np.argmax(together))
    told = together[later] > TOLD_BY * float(np.sqrt(np.mean(together**2)))
    later -= together.size if later > together.size // 2 else 0
    inside = ready.place + ready.sound[0] * passages.period + later >= 0
    return replace(ready, place=ready.place + later) if told and inside and abs(later) > FAR_SAMPLES else ready
