"""How a call would sound: the E-model (ITU-T G.107) with its default values, from delay and loss alone."""

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
R_BASIC = 93.2
"""With all default values of G.107 (table 2)."""
IE, BPL = 0.0, 25.1
"""Of G.711 with concealment of losses (ITU-T G.113, appendix I)."""
BUFFER_MS = 2.0
"""The receiver waits for so many times the jitter, so that little comes too late."""
CODING_MS = 20.0
"""Of one packet of 20 ms that is filled and played."""


def rating(delay_ms: Floats, jitter_ms: Floats, loss_percent: Floats) -> Floats:
    """The transmission rating R, 0 to 100.

    Parameters
    ----------
    delay_ms : one way, of the network
    loss_percent : at random
    """
    mouth_to_ear = delay_ms + BUFFER_MS * jitter_ms + CODING_MS
    effective = IE + (95 - IE) * loss_percent / (loss_percent + BPL)
    return np.clip(R_BASIC - _delay_impairment(mouth_to_ear) - effective, 0.0, 100.0)


def _delay_impairment(ms: Floats) -> Floats:
    """Id for an echo that is cancelled: what absolute delay costs (G.107 section 7.4, Idd)."""
    x = np.log2(np.maximum(ms, 100.0) / 100.0)
    return 25 * ((1 + x**6) ** (1 / 6) - 3 * (1 + (x / 3) ** 6) ** (1 / 6) + 2)


def mos(r: Floats) -> Floats:
    """The mean opinion score of a rating, 1 to 4.5 (G.107 annex B)."""
    score = 1 + 0.035 * r + r * (r - 60) * (100 - r) * 7e-6
    return np.where(r <= 0, 1.0, np.where(r >= 100, 4.5, np.maximum(score, 1.0)))
