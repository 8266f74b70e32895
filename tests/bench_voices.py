"""Every voice, room and fault: the corpora that tests sample, whole, as tables for docs/BENCHMARKS.md. `./run bench --voices`."""

from collections import defaultdict
from collections.abc import Callable, Iterable, Sequence
from multiprocessing import Pool
from typing import Any

import numpy as np

from tests import corpus
from tests.core import test_channels as channels
from tests.core import test_voices_between_the_words as between
from tests.core import test_voices_findings as findings
from tests.core import test_voices_treated as treated


def each(function: Callable[[Any], Any], cases: Sequence[Any]) -> list[Any]:
    """In as many processes as there are cores."""
    with Pool() as pool:
        return pool.map(function, cases, chunksize=4)


def error_db(case: between.Case) -> float:
    return next(between.errors_db([case]))


def noise_floors() -> None:
    print("| noise floor, read less put in | cases | within 1.5 dB | within 3 dB | lowest | highest |")
    print("| --- | --- | --- | --- | --- | --- |")
    corpora = {
        "steady rooms, with a breath in every pause or none": between.steady(),
        "rooms that swell by 4 or 8 dB": between.swelling(),
        "… by 12 dB": between.swelling(swings_db=(12,)),
        "… by 4 dB, with breaths": between.swelling(-40, (4,)),
        "… by 8 dB, with breaths": between.swelling(-40, (8,)),
        "… by 12 dB, with breaths": between.swelling(-40, (12,)),
        "phrases 14 and 17 dB softer than the rest": between.softer((14, 17)),
        "… 20 dB softer": between.softer((20,)),
        "… 23 dB softer": between.softer((23,)),
        "rooms that something makes louder by 6 to 16 dB": between.louder(),
    }
    for name, cases in corpora.items():
        errors = np.array(each(error_db, cases))
        near, far = np.mean(np.abs(errors) <= 1.5), np.mean(np.abs(errors) <= 3)
        print(f"| {name} | {len(cases)} | {near:.1%} | {far:.1%} | {np.nanmin(errors):.1f} | {np.nanmax(errors):.1f} |", flush=True)


def faults() -> None:
    cases = findings.cases()
    counts: dict[tuple[str, int], dict[int, list[findings.Count]]] = defaultdict(lambda: defaultdict(list))
    by_gain: dict[int, list[findings.Count]] = defaultdict(list)
    for case, count in zip(cases, each(findings.counted, cases), strict=True):
        counts[case.fault, case.under_peak_db][case.rate].append(count)
        if case.fault != "none":
            by_gain[case.gain_db].append(count)
    print("\n| found of made, all gains | " + " | ".join(f"{rate / 1000:g} kHz" for rate in corpus.RATES) + " | precision |")
    print("| --- " * (len(corpus.RATES) + 2) + "|")
    for (fault, under), rates in counts.items():
        if fault == "none":
            continue
        found = [_share(rates[rate]) for rate in corpus.RATES]
        whole = findings.summed(count for each_rate in rates.values() for count in each_rate)
        name = f"{fault}, {under} dB under the peak" if fault not in findings.TOLD else fault
        print(f"| {name} | " + " | ".join(found) + f" | {whole.found / max(whole.found + whole.false, 1):.1%} |")
    false = [findings.summed(counts["none", 0][rate]) for rate in corpus.RATES]
    print("| clean: false alarms a minute | " + " | ".join(f"{count.false / count.minutes:.2f}" for count in false) + " | |")
    print("\nBy gain: " + ", ".join(f"{gain} dB {_share(by_gain[gain])}" for gain in findings.GAINS_DB) + ".", flush=True)


def _share(counts: Iterable[findings.Count]) -> str:
    whole = findings.summed(counts)
    return f"{whole.found / whole.made:.1%}"


def told(case: tuple[str, int, str, float, int]) -> bool:
    return findings.clipping_told(*case)


def clipping() -> None:
    print("\n| clipping told | cases | 0.2 % of samples cut | 0.03 % | none |")
    print("| --- | --- | --- | --- | --- |")
    for how in findings.CUT:
        shares = [each(told, findings.clipping_cases(how, share)) for share in (0.002, 0.0003, 0.0)]
        print(f"| {how} | {len(shares[0])} | " + " | ".join(f"{np.mean(share):.1%}" for share in shares) + " |", flush=True)


def repair() -> None:
    gained = np.array([gain for gain in each(treated.gained_db, treated.cut_cases()) if gain is not None])
    print(
        f"\nClip repair: {gained.size} cases, {(gained < -0.01).sum()} of them worse than left alone; nearer to what it was by"
        f" {gained.min():.1f} dB at least, {np.median(gained):.1f} in the middle.",
        flush=True,
    )


def click_repair() -> None:
    cases = treated.clicked_cases()
    found = each(treated.repaired, cases)
    print("\n| click repair | told before | after | nearer to what it was, median | worse |")
    print("| --- | --- | --- | --- | --- |")
    for kind, under in sorted({case[1:] for case in cases}):
        chosen = [one for one, case in zip(found, cases, strict=True) if case[1:] == (kind, under)]
        nearer = np.array([gain for one in chosen for gain in one.nearer_db])
        told, left = sum(one.told for one in chosen), sum(one.left for one in chosen)
        print(f"| {kind}, {under} dB | {told} | {left} | {np.median(nearer):.1f} dB | {np.mean(nearer < -0.1):.0%} |", flush=True)


def pairs() -> None:
    cases = each(channels.pairs_told, channels.pair_cases())
    print("\n| two channels | told as what they are |")
    print("| --- | --- |")
    for what, wanted in channels.PAIRS.items():
        print(f"| {what} | {sum(told[what] == wanted for told in cases)} of {len(cases)} |", flush=True)


def hum() -> None:
    cases = treated.hum_cases()
    left = np.array(each(treated.hum_left_db, cases))
    print("\n| hum left in dB: highest | under words | in pauses | in any 100 ms |")
    print("| --- | --- | --- | --- |")
    for which in treated.HUMS:
        for phrase_s in sorted({case[1] for case in cases}):
            chosen = left[[case[1:] == (phrase_s, which) for case in cases]].max(axis=0)
            print(f"| {which}, phrases of {phrase_s:g} s | " + " | ".join(f"{value:.0f}" for value in chosen) + " |", flush=True)


def noise_reduction() -> None:
    cases = treated.noisy_cases()
    found = each(treated.swelling, cases)
    heads = ("12 dB of noise reduction", "swells by, dB", "told wrong by at most", "bounded to 4 dB: by at most", "in pauses then")
    print(f"\n| {' | '.join(heads)} |")
    print("| --- | --- | --- | --- | --- |")
    for ratio_db, kind in sorted({case[1:] for case in cases}):
        chosen = [each for each, case in zip(found, cases, strict=True) if case[1:] == (ratio_db, kind)]
        swells, taken = [each.true_db for each in chosen], [-each.bounded_in_pauses_db for each in chosen]
        wrong, bounded = max(abs(each.told_db - each.true_db) for each in chosen), max(each.bounded_db for each in chosen)
        spread = f"{min(swells):.1f} to {max(swells):.1f} | {wrong:.1f} | {bounded:.1f} | {min(taken):.1f} to {max(taken):.1f}"
        print(f"| {kind}, {ratio_db:g} dB under the voice | {spread} |", flush=True)


def main() -> None:
    noise_floors()
    faults()
    clipping()
    repair()
    click_repair()
    pairs()
    hum()
    noise_reduction()
