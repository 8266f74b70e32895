"""Addresses that are told how recordings stand: every change once, signed, in order, tried again where nobody answers."""

import hashlib
import hmac
import json
import threading
import unittest
from base64 import b64decode, b64encode
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from unittest import mock
from uuid import uuid4

from sqlmodel import select, text

from ispettore.studio.attending import hooks, messages, process, sending
from ispettore.studio.attending.hooks import AddressUnfit
from ispettore.studio.attending.process import Attending, Heard
from ispettore.studio.catalogue import productions, recordings
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.tables import Webhook, WebhookMessage, WebhookStatus, now
from ispettore.studio.worker.doing import do
from tests.studio.test_watching import sound
from tests.support import ApplicationCase, in_environment, until, work_for


class Receiver:
    """Somebody who is told: what came, and what is answered."""

    def __init__(self) -> None:
        self.came: list[tuple[dict[str, str], str]] = []
        self.answers: Callable[[], int] = lambda: 204
        receiver = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers["content-length"])).decode()
                receiver.came.append(({name.lower(): value for name, value in self.headers.items()}, body))
                status = receiver.answers()
                self.send_response(status)
                if status in (301, 302, 307, 308):
                    self.send_header("location", "/elsewhere")
                self.end_headers()

            def log_message(self, *_: object) -> None:
                pass

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self._server.server_port}/told"
        threading.Thread(target=self._server.serve_forever, daemon=True).start()

    def close(self) -> None:
        self._server.shutdown()
        self._server.server_close()

    @property
    def told(self) -> list[dict]:
        return [json.loads(body) for _, body in self.came]


class Webhooks(ApplicationCase):
    def setUp(self):
        self.receiver = Receiver()
        self.addCleanup(self.receiver.close)
        self.production = productions.create("Almanac", "audiobook-retail")
        self.addCleanup(self.forget)

    def forget(self) -> None:
        with transaction() as session:
            for hook in session.exec(select(Webhook)).all():
                session.delete(hook)

    def added(self, production=None) -> hooks.MadeWebhook:
        return hooks.add(self.receiver.url, production)

    def recording(self, name: str = "01 Tide.wav", *, seed: int = 1):
        path = sound(self.application.folder / "made.wav", seed=seed)
        return recordings.add(self.production, name, self.application.store.put_file(path))

    def tell(self) -> None:
        messages.write()
        sending.send_due()

    def shown(self):
        with transaction() as session:
            return hooks.listed(session)

    def messages(self) -> list[WebhookMessage]:
        with transaction() as session:
            return list(session.exec(select(WebhookMessage).order_by(WebhookMessage.number)).all())

    def later(self, seconds: float) -> None:
        """As if so much time had passed."""
        with transaction() as session:
            for message in session.exec(select(WebhookMessage).where(WebhookMessage.due_at.is_not(None))).all():
                message.due_at -= timedelta(seconds=seconds)
                session.add(message)


class Telling(Webhooks):
    def test_every_change_of_status_is_told_once_with_the_one_before(self):
        self.added(self.production)
        recording = self.recording()
        self.tell()
        do(work_for(recording).id, self.application.store)
        self.tell()
        self.tell()
        told = [(one["data"]["before"], one["data"]["status"]) for one in self.receiver.told]
        self.assertEqual(told, [(None, "running"), ("running", "outside")])
        first = self.receiver.told[0]
        self.assertEqual(first["type"], "recording.status")
        self.assertEqual(first["data"]["recording"], {"id": str(recording), "name": "01 Tide.wav"})
        self.assertEqual(first["data"]["production"], {"id": str(self.production), "name": "Almanac"})
        self.assertEqual(first["data"]["specification"]["id"], "audiobook-retail")
        (shown,) = self.shown()
        self.assertEqual((shown.waiting, shown.arrived, shown.answer, shown.problem), (0, 2, "", ""))

    def test_what_stood_before_it_was_added_is_not_told(self):
        recording = self.recording()
        do(work_for(recording).id, self.application.store)
        self.added()
        self.tell()
        self.assertEqual(self.receiver.came, [])

    def test_one_is_told_of_its_production_alone(self):
        other = productions.create("Harbour", "audiobook-retail")
        self.added(other)
        self.recording()
        self.tell()
        self.assertEqual(self.receiver.came, [])

    def test_a_receiver_can_tell_that_a_message_is_ours_and_whole(self):
        """As the open specification has receivers check it, written anew here."""
        secret = self.added().secret
        self.recording()
        self.tell()
        headers, body = self.receiver.came[0]
        key = b64decode(secret.removeprefix("whsec_"))
        self.assertEqual(len(key), 24)
        signed = f"{headers['webhook-id']}.{headers['webhook-timestamp']}.{body}".encode()
        expected = b64encode(hmac.new(key, signed, hashlib.sha256).digest()).decode()
        self.assertEqual(headers["webhook-signature"], f"v1,{expected}")
        self.assertLess(abs(now().timestamp() - int(headers["webhook-timestamp"])), 60)
        self.assertEqual(headers["content-type"], "application/json")

    def test_the_secret_is_shown_once(self):
        made = self.added()
        self.assertNotIn(made.secret, self.shown()[0].model_dump_json())


class Trying(Webhooks):
    def test_what_does_not_arrive_is_tried_again_later_under_the_same_name_and_in_order(self):
        self.added()
        self.receiver.answers = lambda: 503
        self.recording("1.wav")
        self.tell()
        self.recording("2.wav", seed=2)
        self.tell()
        self.assertEqual(len(self.receiver.came), 1)  # not due yet, and the second waits for it
        (shown,) = self.shown()
        self.assertEqual((shown.waiting, shown.answer), (2, "it answered with 503"))
        self.receiver.answers = lambda: 200
        self.later(5)
        self.tell()
        self.assertEqual([one["data"]["recording"]["name"] for one in self.receiver.told], ["1.wav", "1.wav", "2.wav"])
        names = [headers["webhook-id"] for headers, _ in self.receiver.came]
        self.assertEqual((names[0] == names[1], names[1] == names[2]), (True, False))

    def test_it_waits_longer_and_longer_and_is_given_up_with_the_reason(self):
        hook = self.added()
        self.receiver.answers = lambda: 500
        self.recording()
        messages.write()
        for wait_s in (*sending.WAITS_S, None):
            sending.send_due()
            (message,) = self.messages()
            if wait_s is not None:
                self.assertAlmostEqual((message.due_at - now()).total_seconds(), wait_s, delta=5)
                self.later(wait_s)
        (shown,) = self.shown()
        self.assertEqual(shown.problem, "8 tries failed: it answered with 500.")
        self.later(1e6)
        sending.send_due()
        self.assertEqual(len(self.receiver.came), 8)
        self.receiver.answers = lambda: 200
        hooks.again(hook.id)
        sending.send_due()
        self.assertEqual([one["type"] for one in self.receiver.told[8:]], ["recording.status", "webhook.try"])
        self.assertEqual(self.shown()[0].problem, "")

    def test_a_try_asked_for_while_a_message_is_under_way_lets_both_through(self):
        hook = self.added()
        self.recording()
        messages.write()
        waits = text("SELECT count(*) FROM pg_locks WHERE NOT granted")
        with ThreadPoolExecutor(1) as pool:
            with transaction() as asking:
                asking.get(Webhook, hook.id, with_for_update=True)
                sent = pool.submit(sending.send_due)
                until(lambda: self.receiver.came and asking.execute(waits).scalar(), what="the answer to be written down")
                messages.retry(asking, hook.id)
            sent.result()
        self.assertEqual(len(self.receiver.came), 1)
        self.assertEqual((self.shown()[0].arrived, self.shown()[0].waiting), (1, 0))

    def test_who_says_that_nobody_is_there_any_more_is_told_nothing_more(self):
        self.added()
        self.receiver.answers = lambda: 410
        self.recording()
        self.tell()
        self.later(1e6)
        self.tell()
        self.assertEqual(len(self.receiver.came), 1)
        self.assertIn("nobody is there", self.shown()[0].problem)

    def test_nobody_is_followed_elsewhere(self):
        self.added()
        self.receiver.answers = lambda: 307
        self.recording()
        self.tell()
        self.assertEqual((len(self.receiver.came), self.shown()[0].answer), (1, "it answered with 307"))

    def test_an_address_that_is_away_takes_nothing_from_another(self):
        away = hooks.add("http://127.0.0.1:9/told", None)
        self.added()
        self.recording()
        self.tell()
        self.assertEqual(len(self.receiver.came), 1)
        self.assertEqual(next(one.answer for one in self.shown() if one.id == away.id), "nobody answers there")

    def test_a_death_between_sending_and_noting_sends_it_again_under_the_same_name(self):
        self.added()
        self.recording()
        messages.write()
        with mock.patch.object(sending, "_noted", side_effect=KeyboardInterrupt), self.assertRaises(KeyboardInterrupt):
            sending.send_due()
        sending.send_due()
        first, second = (headers["webhook-id"] for headers, _ in self.receiver.came)
        self.assertEqual(first, second)

    def test_messages_are_let_go_of_after_a_month(self):
        self.added()
        self.recording()
        self.tell()
        with transaction() as session:
            messages.forget(session)
        self.assertEqual(len(self.messages()), 1)
        with (
            mock.patch.object(messages, "now", lambda: now() + messages.FORGOTTEN_AFTER + timedelta(hours=1)),
            transaction() as session,
        ):
            messages.forget(session)
        self.assertEqual(self.messages(), [])


class Addresses(Webhooks):
    def test_which_can_not_be_told(self):
        for url, why in (
            ("ftp://example.test/x", "https://"),
            ("", "https://"),
            ("https://", "name a host"),
            ("https://a:b@127.0.0.1/", "password"),
            ("https://127.0.0.1/#x", "fragment"),
            ("https://127.0.0.1:99999/", "https://"),
            ("https://nobody.invalid/", "not known here"),
            ("http://169.254.169.254/latest", "own network segment"),
            ("http://[fe80::1]/", "own network segment"),
            ("http://[::ffff:169.254.169.254]/latest", "own network segment"),
            ("http://0.0.0.0/", "own network segment"),
            ("http://224.0.0.1/", "own network segment"),
        ):
            with self.subTest(url=url), self.assertRaisesRegex(AddressUnfit, why):
                hooks.add(url, None)

    def test_a_server_of_several_people_tells_nothing_to_its_own_machine_not_even_by_a_name_that_changed(self):
        self.added()
        self.recording()
        with in_environment(ISPETTORE_ACCESS="accounts"):
            for url in (self.receiver.url, "http://[::1]:9/", "http://[::ffff:127.0.0.1]:9/"):
                with self.subTest(url=url), self.assertRaisesRegex(AddressUnfit, "this machine"):
                    hooks.add(url, None)
            self.tell()
        self.assertEqual(self.receiver.came, [])
        self.assertIn("this machine", self.shown()[0].answer)

    def test_of_a_production_or_webhook_that_is_not_there(self):
        with self.assertRaises(NotFound):
            hooks.add(self.receiver.url, uuid4())
        for act in (hooks.remove, hooks.again):
            with self.assertRaises(NotFound):
                act(uuid4())

    def test_one_that_is_removed_takes_its_messages_along(self):
        made = self.added()
        self.recording()
        messages.write()
        hooks.remove(made.id)
        with transaction() as session:
            left = [session.exec(select(kind)).all() for kind in (WebhookMessage, WebhookStatus)]
        self.assertEqual(left, [[], []])
        sending.send_due()
        self.assertEqual(self.receiver.came, [])


class Process(Webhooks):
    def test_it_hears_what_changes_and_tells_it_and_two_of_them_tell_nothing_twice(self):
        self.added()
        both = [Attending(), Attending()]
        threads = [threading.Thread(target=one.run) for one in both]
        for thread in threads:
            thread.start()
        try:
            self.recording()
            waited = threading.Event()
            for _ in range(600):
                if self.receiver.came:
                    break
                waited.wait(0.1)
            waited.wait(3.0)
        finally:
            for one in both:
                one.stop()
            for thread in threads:
                thread.join(30)
        self.assertEqual([one["data"]["status"] for one in self.receiver.told], ["running"])

    def test_what_nobody_thought_of_in_one_thing_takes_nothing_from_the_others(self):
        self.added()
        self.recording()
        attending = Attending()
        with (
            mock.patch.object(Attending, "_folders", return_value=[(uuid4(), self.production)]),
            mock.patch.object(process, "log") as log,
            mock.patch.object(sending, "send_due", side_effect=attending.stop),
        ):
            attending.run()
        self.assertEqual([call.args[0] for call in log.exception.call_args_list], ["a watched folder could not be looked after"])
        self.assertEqual(len(self.messages()), 1)
        again = Attending()

        def fails() -> None:
            again.stop()
            raise KeyError("unheard of")

        with mock.patch.object(process, "log") as log, mock.patch.object(sending, "send_due", side_effect=fails):
            again.run()
        self.assertEqual([call.args[0] for call in log.exception.call_args_list], ["webhooks could not be told"])

    def test_what_is_told_of_itself_asks_for_nothing(self):
        heard = Heard(everything=False)
        heard.note(json.dumps({"about": "outside", "production": str(self.production)}))
        self.assertEqual(heard.taken(), Heard(everything=False))
        heard.note(json.dumps({"about": "inspect", "production": str(self.production)}))
        heard.note(json.dumps({"about": "everything"}))
        self.assertEqual(heard.taken(), Heard({self.production}, True))


if __name__ == "__main__":
    unittest.main()
