"""Recordings of a filter whistling through a staircase of control volts, as people make them by hand."""

from dataclasses import dataclass, field

import numpy as np


@dataclass
class Staircase:
    """frequency_hz: one a step. Everything that can happen to such a recording, each off by default."""

    frequency_hz: list
    step_s: float = 0.8
    rate: float = 48_000.0
    level_v: list | float = 1.0
    noise_db: float = -60.0
    glide_s: float = 0.0  # time constant of the control path
    portamento_s: float = 0.0  # a straight line in pitch
    gap_s: float = 0.0
    clicks: int = 0
    drift_cents_per_s: float = 0.0
    fade_db: float = 0.0  # over each step
    harmonics: tuple = (0.1, 0.05)
    dc_v: float = 0.3
    lead_s: float = 0.3
    dropout: tuple = ()  # (step, seconds)
    silent: tuple = ()  # steps that do not sound although their time passes
    seed: int = 0
    spans: list = field(default_factory=list)

    def recording(self):
        rng = np.random.default_rng(self.seed)
        n = len(self.frequency_hz)
        each, gap = round(self.step_s * self.rate), round(self.gap_s * self.rate)
        lead = round(self.lead_s * self.rate)
        log_f, level, self.spans = [], [], []
        levels = np.broadcast_to(self.level_v, n)
        at = lead
        log_f.append(np.full(lead, np.log2(self.frequency_hz[0])))
        level.append(np.zeros(lead))
        for i, hertz in enumerate(self.frequency_hz):
            t = np.arange(each) / self.rate
            course = np.full(each, np.log2(hertz)) + self.drift_cents_per_s / 1200 * (t - self.step_s / 2)
            if i and not gap:
                jump = np.log2(self.frequency_hz[i - 1] / hertz)
                if self.glide_s:
                    course = course + jump * np.exp(-t / self.glide_s)
                elif self.portamento_s:
                    course = course + jump * np.clip(1 - t / self.portamento_s, 0, 1)
            gain = levels[i] * 10 ** (self.fade_db * (t / self.step_s - 0.5) / 20)
            if i in self.silent:
                gain = 0 * gain
            for step, seconds in self.dropout:
                if step == i:
                    middle, half = each // 2, round(seconds * self.rate / 2)
                    gain[middle - half : middle + half] = 0
            log_f.append(course)
            level.append(gain)
            self.spans.append((at / self.rate, (at + each) / self.rate))
            at += each
            if gap:
                log_f.append(np.full(gap, np.log2(hertz)))
                level.append(np.zeros(gap))
                at += gap
        phase = 2 * np.pi * np.cumsum(2 ** np.concatenate(log_f)) / self.rate
        gain = np.concatenate(level)
        wave = np.sin(phase)
        for number, share in enumerate(self.harmonics, start=2):
            inside = 2 ** np.concatenate(log_f) * number < 0.45 * self.rate
            wave = wave + share * inside * np.sin(number * phase + number)
        tail = np.zeros(round(0.2 * self.rate))
        record = np.concatenate([gain * wave, tail]) + self.dc_v
        usual = float(np.median(levels))
        record += usual / np.sqrt(2) * 10 ** (self.noise_db / 20) * rng.standard_normal(record.size)
        for _ in range(self.clicks):
            place = int(rng.integers(lead, at - 200))
            size = round(float(rng.uniform(0.0005, 0.003)) * self.rate)
            record[place : place + size] += rng.uniform(1, 4) * usual * rng.choice([-1, 1]) * np.exp(
                -np.arange(size) / (size / 4))
        return record

    def errors_cents(self, found):
        """What a Staircase found is off, the drift over the stretch that was measured taken into account."""
        off = []
        for tone, hertz, (start, stop) in zip(found.tones, self.frequency_hz, self.spans, strict=True):
            drifted = self.drift_cents_per_s * (0.5 * (tone.start_s + tone.stop_s) - 0.5 * (start + stop))
            off.append(1200 * np.log2(tone.frequency_hz.value / hertz) - drifted)
        return np.array(off)


def drawn_staircase(seed):
    """A recording as one may come across it, and its volts; from C1 up, never under a third of a second a step."""
    rng = np.random.default_rng(seed)
    base, step = float(rng.choice([32.7, 55.0, 65.4, 110.0])), float(rng.choice([1.0, 1.0, 0.5]))
    count = int(min(rng.integers(5, 12), np.log2(18_000 / base) / step + 1))
    volts = (np.arange(count) * step)[:: int(rng.choice([1, 1, 1, -1]))]
    hertz = [base * 2 ** (v * rng.uniform(0.999, 1.001)) * 2 ** (rng.normal(0, 3) / 1200) for v in volts]
    seconds = float(rng.uniform(0.35, 1.2))
    how = {
        "step_s": seconds, "rate": float(rng.choice([44_100, 48_000, 96_000])),
        "noise_db": float(rng.uniform(-70, -35)), "harmonics": tuple(rng.uniform(0, 0.3, 4)),
        "dc_v": float(rng.uniform(-1, 1)), "lead_s": float(rng.choice([0, 0.1, 0.5])), "seed": seed,
        "clicks": int(rng.choice([0, 0, 4, 10])), "drift_cents_per_s": float(rng.uniform(-2, 2)),
        "fade_db": float(rng.uniform(-6, 6)), "level_v": list(10 ** (rng.uniform(-10, 0, count) / 20)),
    }
    kind = rng.integers(4)
    if kind == 0:
        how["glide_s"] = float(rng.uniform(0.001, seconds / 20))
    elif kind == 1:
        how["portamento_s"] = float(rng.uniform(0.01, seconds / 4))
    elif kind == 2:
        how["gap_s"] = float(rng.uniform(0.03, 0.5))
    return Staircase(hertz, **how), volts.tolist()
