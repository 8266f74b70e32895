"""`crest_factor_db`, `speech_crest_db`, `peak_to_loudness_db`: how far the peaks stand above the level (the last as in AES77)."""

from ispettore.core.measure.reading import Reading


def above(quantity: str, peak: Reading, level: Reading, *, method: str) -> Reading:
    """The difference of two readings in dB, where and when the peak was; no value where either has none."""
    known = peak.value is not None and level.value is not None
    return Reading(
        quantity=quantity,
        value=peak.value - level.value if peak.value is not None and level.value is not None else None,
        unit="LU" if level.unit == "LUFS" else "dB",
        method=method,
        channel=peak.channel,
        start_s=peak.start_s,
        end_s=peak.end_s,
        note=None if known else (peak.note or level.note),
        silence=peak.silence or level.silence,
    )
