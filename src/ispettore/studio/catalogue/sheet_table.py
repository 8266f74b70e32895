"""The inspection sheet as a table for spreadsheets (CSV, RFC 4180)."""

import csv
import io

from ispettore.core.spec.verdict import LimitVerdict
from ispettore.core.text import as_cell
from ispettore.studio.catalogue.sheet_views import ProductionView
from ispettore.studio.catalogue.views import RecordingView

FACTS = ("container", "codec", "sample_rate_hz", "bit_depth", "channels", "duration_s", "bit_rate_kbps")


def as_csv(sheet: ProductionView) -> str:
    """A row a recording, in order: its facts, then each limit's reading, where it stands and by how much, then the verdict."""
    limits = list({limit.quantity: limit for row in sheet.recordings if row.verdict for limit in row.verdict.limits}.values())
    out = io.StringIO()
    table = csv.writer(out)
    columns = [name for limit in limits for name in (_headed(limit), f"{limit.title}: stands", f"{limit.title}: margin")]
    table.writerow(["position", "recording", *FACTS, "SHA-256", *columns, "verdict", "delivered file"])
    for position, row in enumerate(sheet.recordings, start=1):
        table.writerow(
            [position, as_cell(row.name), *_facts(row), row.sha256, *_judged(row, limits), _verdict(row), _delivered(row)]
        )
    return out.getvalue()


def _headed(limit: LimitVerdict) -> str:
    return f"{limit.title} ({limit.unit})" if limit.unit else limit.title


def _facts(row: RecordingView) -> list[object]:
    if row.facts is None:
        return [""] * len(FACTS)
    return [_plain(getattr(row.facts, name)) for name in FACTS]


def _judged(row: RecordingView, limits: list[LimitVerdict]) -> list[object]:
    known = {limit.quantity: limit for limit in row.verdict.limits} if row.verdict else {}
    cells: list[object] = []
    for limit in limits:
        found = known.get(limit.quantity)
        cells += [_plain(found.reading), found.position, _plain(found.margin)] if found else ["", "", ""]
    return cells


def _verdict(row: RecordingView) -> str:
    if row.verdict is None:
        return row.work.state if row.work else "not measured"
    return "inside" if row.verdict.passes else "outside"


def _delivered(row: RecordingView) -> str:
    done = row.delivered
    return as_cell(done.file_name) if done is not None and done.passes and done.file_name else ""


def _plain(value: float | str | None) -> object:
    return "" if value is None else round(value, 3) if isinstance(value, float) else value
