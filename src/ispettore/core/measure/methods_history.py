"""Which version of the methods gave other figures for what.

Whoever changes a meter so that it reads differently adds a line to `CHANGED`. Inspections and certificates carry the version they
were taken by; what changed since may differ from what is measured today, and nothing else may.
"""

_PAUSES = frozenset(
    {
        "noise_floor_dbfs",
        "noise_floor_quietest_dbfs",
        "noise_floor_worst_pause_dbfs",
        "signal_to_noise_db",
        "head_s",
        "tail_s",
        "longest_pause_s",
        "digital_silence_s",
    }
)
_FAULTS = frozenset({"clipped_runs", "hum_db", "rumble_db", "decay_s", "bandwidth_hz"})
_FILE = frozenset({"codec", "bit_rate_kbps", "bit_rate_constant", "bit_rate_kind", "channel_relation", "tags"})
_NEW_IN_2 = frozenset(
    {
        "active_speech_level_dbfs",
        "speech_activity_percent",
        "crest_factor_db",
        "speech_crest_db",
        "peak_to_loudness_db",
        "inter_sample_overs",
        "dc_offset_percent",
        "asymmetry_db",
    }
)
_SPEECH = frozenset({"active_speech_level_dbfs", "speech_activity_percent", "speech_crest_db"})
_WITH_PAUSES = _PAUSES | frozenset({"hum_db", "rumble_db", "decay_s", "channel_correlation", "mono_loss_db", "channel_relation"})
CHANGED: dict[int, frozenset[str]] = {
    1: frozenset(),
    2: _PAUSES | _FAULTS | _FILE | _NEW_IN_2,
    3: _PAUSES | _FAULTS | _FILE,
    4: frozenset({"tags"}),  # every value of a tag instead of the first
    5: _PAUSES | _SPEECH | frozenset({"clipped_runs", "decay_s", "hum_db", "rumble_db"}),  # real voices: docs/DECISIONS.md
    6: frozenset({"channel_correlation", "mono_loss_db", "channel_relation"}),
    7: frozenset(),  # passages of two voices and the fundamental are kept beside the readings, which are the same
    8: frozenset({"tags"}),  # what a WAV file's INFO list says
    9: frozenset(),  # wide crests at many levels are no longer suspected of clipping; no reading moved
    10: frozenset(),  # marks made in the read and words read again are found, and marks are no clicks; no reading moved
    11: frozenset(),  # marks set in a file are read, and words read again behind them; no reading moved
    12: frozenset(),  # more clicks are found, and fewer that are none; no reading moved
    # What has the room's own spectrum is the room, however far it swells: only recordings in which it does read otherwise.
    13: _WITH_PAUSES,
    # What is said far more softly than the rest is no room, and a fan that comes on is one: recordings with either read otherwise.
    14: _WITH_PAUSES,
    # A breath from soon after the words to the next ones is no room: recordings with one read otherwise.
    15: _WITH_PAUSES,
}
"""By version: the quantities and facts that are new or read differently from it on (versions 1 and 2 were measured again beside the
third, on every recording of the demo). Peaks, RMS and loudness have read the same since the first."""


def current() -> int:
    """The version of the methods of now."""
    return max(CHANGED)


def may_differ(quantity: str, *, since: int) -> bool:
    """Whether a reading or fact taken by an older version need not be what is measured now.

    Of what a newer version changed nothing is known here: none of it may differ.

    >>> may_differ("head_s", since=1), may_differ("rms_dbfs", since=1), may_differ("head_s", since=current())
    (True, False, False)
    """
    return any(quantity in names for version, names in CHANGED.items() if version > since)
