"""The real queue with stub computations: many productions, many recordings, many workers. How much goes through, who waits how
long, how large the database grows, and which of its queries take longest, with their plans."""

import asyncio
import json
import os
import random
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path
from uuid import UUID, uuid4

import numpy as np
import psycopg

from ispettore.core.spec import catalogue
from ispettore.studio.database import engine, migrate, transaction
from ispettore.studio.jobs import queue, retrying, turns, works
from ispettore.studio.running.cluster import ADMINISTRATOR, NAME, Cluster
from ispettore.studio.settings import settings
from ispettore.studio.tables import Production, Recording, Work, WorkKind, WorkState, now
from ispettore.studio.worker import process
from tests.support import in_environment

STUB_S = 0.1
EVERY_S = 0.5
"""So often somebody asks for a plan of one recording, in any production."""
PROCESSES = 2
ASKED = 5_000
"""So much is asked for as people do it: the rest would only take long."""


def main(count: int, each: int, workers: int, *, most_s: float) -> None:
    """`count` productions of `each` recordings, all asked for at once, for so many workers; looked at for so long at most."""
    with tempfile.TemporaryDirectory(prefix="ispettore-crowd-") as held:
        folder = Path(held)
        folder.chmod(0o755)
        cluster = Cluster(folder / "postgres", options="-c shared_preload_libraries=pg_stat_statements -c max_connections=300")
        cluster.start()
        try:
            chosen = {"ISPETTORE_DATABASE_URL": cluster.url, "ISPETTORE_STORE": str(folder / "store"), "ISPETTORE_STATE": held}
            with in_environment(**chosen, ISPETTORE_WORK=str(folder / "work"), ISPETTORE_ACCESS="open"):
                migrate()
                with cluster._connect(ADMINISTRATOR, database=NAME) as connection:
                    connection.execute("CREATE EXTENSION pg_stat_statements")
                _measure(cluster, count, each, workers, most_s)
                engine().dispose()
                queue.deferrer().close()
        finally:
            cluster.stop()


def _measure(cluster: Cluster, count: int, each: int, workers: int, most_s: float) -> None:
    recordings = _rows(count, each)
    asked = min(len(recordings), ASKED)
    begun = time.monotonic()
    _in_threads(recordings[:asked], lambda some: _ask(some, WorkKind.CONFORM))
    asked_s = time.monotonic() - begun
    print(f"{asked} asked for in {asked_s:.0f} s ({asked / asked_s:.0f} a second, four asking); the rest put in in bulk")
    _put(recordings[asked:])
    here = [
        subprocess.Popen([sys.executable, "-m", "tests.bench_crowd", str(workers // PROCESSES)], stdout=subprocess.PIPE, text=True)
        for _ in range(PROCESSES)
    ]
    while _done(cluster) < workers:
        time.sleep(0.2)
    begun, before, done, chance = time.monotonic(), _done(cluster), 0, random.Random(1)
    explained = False
    while done < len(recordings) and time.monotonic() - begun < most_s:
        time.sleep(EVERY_S)
        _ask([chance.choice(recordings)], WorkKind.PLAN)
        done = _done(cluster)
        if not explained and done - before > workers:
            explained = True
            _explain(cluster)
    took = time.monotonic() - begun
    for one in here:
        one.terminate()
    waits = [wait for one in here for wait in json.loads(one.communicate()[0])]
    print(
        f"{done - before} of {len(recordings)} done by {workers} workers in {took:.0f} s: {(done - before) / took:.0f} a second; "
        f"by the stubs alone it could be {workers / STUB_S:.0f}"
    )
    for name, wanted in (("plans asked for meanwhile, one at a time", "plan"), ("everything else", "conform")):
        found = np.array([wait for kind, wait in waits if kind == wanted])
        print(
            f"waited, {name}: median {np.median(found):.2f} s, 95 % {np.percentile(found, 95):.2f} s, longest {found.max():.2f} s"
        )
    _database(cluster)


def _done(cluster: Cluster) -> int:
    with psycopg.connect(cluster.url.replace("+psycopg", "")) as connection:
        return connection.execute("SELECT count(*) FROM work WHERE kind = 'conform' AND state = 'done'").fetchone()[0]


def _put(recordings: list[tuple[UUID, UUID]]) -> None:
    """Work and its jobs in bulk, with the turns that asking would have given: every production is a line of its own."""
    turn: dict[UUID, int] = {}
    for start in range(0, len(recordings), 5_000):
        with transaction() as session:
            for recording, production in recordings[start : start + 5_000]:
                turn[production] = turn.get(production, 0) + 1
                urgent = turn[production] <= turns.URGENT_AT_ONCE
                work = Work(
                    kind=WorkKind.CONFORM, subject_id=recording, production_id=production, urgent=urgent, turn=turn[production]
                )
                session.add(work)
    with transaction() as session:
        session.connection().exec_driver_sql("SET LOCAL search_path = queue, public")
        session.connection().exec_driver_sql(
            "INSERT INTO queue.procrastinate_jobs (queue_name, task_name, priority, lock, queueing_lock, args, status) "
            f"SELECT 'work-' || form, '{queue.TASK}', CASE WHEN urgent THEN {turns.FIRST} ELSE 0 END - turn, id::text, id::text, "
            "jsonb_build_object('work_id', id::text), 'todo' FROM work WHERE NOT EXISTS (SELECT 1 FROM queue.procrastinate_jobs "
            "WHERE lock = work.id::text)"
        )


def _rows(count: int, each: int) -> list[tuple[UUID, UUID]]:
    """Productions and recordings, as (recording, production)."""
    specification = catalogue.find("audiobook-retail").model_dump(mode="json")
    productions = [Production(name=f"Production {number}", specification=specification) for number in range(count)]
    with transaction() as session:
        session.add_all(productions)
    found = [(uuid4(), production.id) for production in productions for _ in range(each)]
    for start in range(0, len(found), 5_000):
        rows = [
            Recording(id=one, production_id=production, position=0, name=f"{one}.wav", sha256=one.hex * 2, size_bytes=1)
            for one, production in found[start : start + 5_000]
        ]
        with transaction() as session:
            session.add_all(rows)
    return found


def _ask(some: list[tuple[UUID, UUID]], kind: WorkKind) -> None:
    with transaction() as session:
        for recording, production in some:
            works.ask(session, kind, recording, of=None, production_id=production)


def _in_threads(recordings: list[tuple[UUID, UUID]], act) -> None:
    """Each production's at once, as when everything is conformed."""
    by_production: dict[UUID, list[tuple[UUID, UUID]]] = {}
    for one in recordings:
        by_production.setdefault(one[1], []).append(one)
    waiting = list(by_production.values())

    def go_on() -> None:
        while waiting:
            try:
                some = waiting.pop()
            except IndexError:
                return
            act(some)

    threads = [threading.Thread(target=go_on) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()


def _database(cluster: Cluster) -> None:
    with cluster._connect(ADMINISTRATOR, database=NAME) as connection:
        size = connection.execute("SELECT pg_database_size(current_database()) / 1e6").fetchone()[0]
        print(f"the database holds {size:.0f} MB")
        slowest = connection.execute(
            "SELECT round(total_exec_time / 1000), calls, round(mean_exec_time::numeric, 2),"
            " left(regexp_replace(query, '\\s+', ' ', 'g'), 110) FROM pg_stat_statements"
            " WHERE query !~* 'pg_|CREATE|ALTER' ORDER BY total_exec_time DESC LIMIT 8"
        ).fetchall()
        for total, calls, mean, text in slowest:
            print(f"  {total:.0f} s in {calls} calls of {mean} ms: {text}")


def _explain(cluster: Cluster) -> None:
    """The plans of what is asked most while much waits."""
    questions = {
        "the next job": "SELECT jobs.* FROM queue.procrastinate_jobs AS jobs WHERE NOT EXISTS (SELECT 1 FROM "
        "queue.procrastinate_jobs AS earlier_jobs WHERE jobs.lock IS NOT NULL AND earlier_jobs.lock = jobs.lock "
        "AND (earlier_jobs.status = 'doing' OR "
        "(earlier_jobs.status = 'todo' AND earlier_jobs.id < jobs.id))) AND jobs.status = 'todo' AND jobs.queue_name = ANY "
        "('{default,work-22,work-23}') ORDER BY jobs.priority DESC, jobs.id ASC LIMIT 1 FOR UPDATE OF jobs SKIP LOCKED",
        "the last of a line": "SELECT turn FROM work WHERE production_id = (SELECT id FROM production LIMIT 1) "
        "AND asked_by = '' AND state IN ('waiting', 'running') AND NOT urgent ORDER BY turn DESC LIMIT 1",
        "the turn of now": "SELECT turn FROM work WHERE state = 'running' AND NOT urgent ORDER BY turn DESC LIMIT 1",
        "the next turn": "SELECT turn FROM work WHERE state = 'waiting' AND NOT urgent ORDER BY turn LIMIT 1",
    }
    with cluster._connect(ADMINISTRATOR, database=NAME) as connection:
        for name, question in questions.items():
            plan = [line for (line,) in connection.execute(f"EXPLAIN (ANALYZE, COSTS OFF, TIMING OFF) {question}").fetchall()]
            print(f"plan of {name}:", *(f"    {line}" for line in plan if "Planning" not in line), sep="\n")


def work_off(count: int) -> None:
    """So many workers in this process, each with a connection of its own, as if each were a process; until told to stop."""
    waits: list[tuple[str, float]] = []

    def do(work_id: UUID, _stopping: object) -> None:
        attempt = retrying.take(work_id)
        if attempt is not None:
            waits.append((attempt.work.kind, (now() - attempt.work.created_at).total_seconds()))
            time.sleep(STUB_S)
            retrying.end(attempt, WorkState.DONE)

    async def all_of_them() -> None:
        await asyncio.gather(*(one_of_them() for _ in range(count)))

    async def one_of_them() -> None:
        hands = retrying.Hands()
        app = process.build(hands, do=do)
        async with app.open_async():
            await app.run_worker_async(
                queues=queue.QUEUES,
                concurrency=1,
                install_signal_handlers=False,
                fetch_job_polling_interval=1.0,
                delete_jobs="successful",
            )

    async def until_told() -> None:
        import signal

        going = asyncio.ensure_future(all_of_them())
        asyncio.get_running_loop().add_signal_handler(signal.SIGTERM, going.cancel)
        try:
            await going
        except asyncio.CancelledError:
            print(json.dumps(waits), flush=True)
            os._exit(0)

    settings()
    asyncio.run(until_told())


if __name__ == "__main__":
    import logging

    logging.disable(logging.WARNING)
    work_off(int(sys.argv[1]))
