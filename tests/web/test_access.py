"""Who is let in and what they may do, over the wire."""

import unittest
from contextlib import ExitStack
from datetime import timedelta
from uuid import UUID

from fastapi.testclient import TestClient
from sqlalchemy import text
from sqlalchemy.exc import ProgrammingError
from sqlmodel import col, select, update
from starlette.routing import WebSocketRoute
from starlette.websockets import WebSocketDisconnect

from ispettore.studio.access import start
from ispettore.studio.database import engine, transaction
from ispettore.studio.tables import (
    CertificateRecord,
    Conforming,
    Importing,
    InvitationRecord,
    Production,
    SessionRecord,
    SignInTry,
    TokenRecord,
    TrailRecord,
    now,
)
from ispettore.studio.who import RIGHTS, Who, acting
from ispettore.web import admission
from ispettore.web.app import build
from tests.support import in_environment
from tests.web.wire import WireCase

GOOD = "four grey herons wade slowly"


class AccessCase(WireCase):
    access = "start"

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.enterClassContext(in_environment(ISPETTORE_ACCESS=cls.access))

    def stranger(self, **how) -> TestClient:
        """A browser that nothing is known of; the application is the same."""
        return TestClient(self.client.app, base_url=how.pop("base_url", "http://127.0.0.1"), **how)

    def local(self) -> TestClient:
        """One that opened the address which the start printed."""
        browser = self.stranger()
        self.assertEqual(browser.get(f"/start/{start.token()}", follow_redirects=False).status_code, 303)
        return browser

    def joined(self, sign_in: str, roles: list[str], *, name: str = "", password: str = GOOD) -> TestClient:
        """Somebody invited who chose a password, in their own browser."""
        body = {"sign_in": sign_in, "name": name or sign_in.title(), "roles": roles}
        answer = self.administrator.post("/api/people", json=body)
        self.assertEqual(answer.status_code, 201, answer.text)
        browser = self.stranger()
        told = browser.post("/api/access/join", json={"secret": answer.json()["secret"], "password": password})
        self.assertEqual(told.status_code, 204, told.text)
        return browser

    @property
    def administrator(self) -> TestClient:
        """Whoever uses this machine."""
        return self.local()

    def refused(self, answer, status: int, words: str) -> None:
        self.assertEqual(answer.status_code, status, answer.text)
        self.assertIn(words, answer.json()["error"])

    def lines(self) -> list[TrailRecord]:
        with transaction() as session:
            return list(session.exec(select(TrailRecord).order_by(col(TrailRecord.number))).all())


def every_route(app) -> list:
    """All of them, those of routers that are included in others too."""
    inner = [getattr(route, "original_router", None) for route in app.routes]
    return [one for route, router in zip(app.routes, inner, strict=True) for one in (every_route(router) if router else [route])]


class Strangers(AccessCase):
    def test_every_route_is_closed_to_them_but_the_few_that_are_listed(self):
        browser, told = self.stranger(), build().openapi()["paths"]
        open_to_them = set()
        for path, operations in told.items():
            for method in operations:
                filled = path.replace("{form}", "csv")
                for part in ("{of}", "{subject}", "{one}", "{other}", "{identifier}", "{version}", "{level}", "{index}"):
                    filled = filled.replace(part, "1")
                answer = browser.request(method, filled)
                if answer.status_code != 401:
                    open_to_them.add((method, path))
        self.assertEqual(
            open_to_them,
            {
                ("get", "/api/health"),
                ("get", "/api/access"),
                ("post", "/api/access/sign-in"),
                ("post", "/api/access/passkey"),
                ("post", "/api/access/passkey/begin"),
                ("post", "/api/access/invitation"),
                ("post", "/api/access/join"),
            },
        )
        for path in (
            "/api/uploads",
            "/api/uploads/abc",
            "/api/nothing",
            "/etc",
            "//api/productions",
            "/api/access/x/../../productions",
        ):
            with self.subTest(path=path):
                self.assertIn(browser.post(path).status_code, (401, 404, 405))
        self.assertEqual(browser.post("/api/uploads").status_code, 401)
        self.assertEqual(browser.get("/").status_code, 200)
        self.refused(browser.get("/api/productions"), 401, "Open the address that Ispettore printed when it started")

    def test_every_socket_is_closed_to_them(self):
        owner = self.local()
        production = owner.post("/api/productions", json={"name": "A", "specification_id": "podcast-mono"}).json()["id"]
        sockets = [route for route in every_route(self.client.app) if isinstance(route, WebSocketRoute)]
        self.assertEqual([route.name for route in sockets], ["checkTake", "recordTake"], "whoever adds one tries it here")
        paths = [f"ws://127.0.0.1/api/productions/{production}/{end}" for end in ("take-check", "take")]
        for browser in (self.stranger(), self.stranger(headers={"authorization": "Bearer x"})):
            for address in (*paths, "ws://127.0.0.1/api/events", "ws://127.0.0.1/assets/x"):
                with self.assertRaises(WebSocketDisconnect), browser.websocket_connect(address):
                    pass
        for path in paths:
            with owner.websocket_connect(path) as socket:
                socket.send_text("{}")
                self.assertIn("can't be used", socket.receive_json()["error"])

    def test_the_start_token_lets_a_browser_in_for_good_and_another_token_does_not(self):
        browser = self.stranger()
        answer = browser.get("/start/wrong", follow_redirects=False)
        self.assertEqual((answer.status_code, answer.headers.get("set-cookie")), (303, None))
        answer = browser.get(f"/start/{start.token()}", follow_redirects=False)
        self.assertEqual((answer.status_code, answer.headers["location"]), (303, "/"))
        cookie = answer.headers["set-cookie"]
        for part in ("ispettore-80=", "HttpOnly", "SameSite=strict", "Path=/", "Max-Age=34560000"):
            self.assertIn(part, cookie)
        self.assertNotIn(start.token(), cookie)
        self.assertEqual(browser.get("/api/productions").status_code, 200)
        me = browser.get("/api/access").json()
        self.assertEqual((me["access"], me["me"]["name"], set(me["me"]["rights"])), ("start", "", set(RIGHTS)))
        self.assertEqual(start.file().stat().st_mode & 0o777, 0o600)
        with transaction() as session:
            kept = [record.secret_sha256 for record in session.exec(select(SessionRecord)).all()]
        self.assertNotIn(browser.cookies["ispettore-80"], kept)

    def test_a_script_shows_the_start_token_or_one_that_was_made_for_it(self):
        shown = {"authorization": f"Bearer {start.token()}"}
        self.assertEqual(self.stranger(headers=shown).get("/api/productions").status_code, 200)
        self.refused(
            self.stranger(headers={"authorization": "Bearer x"}).get("/api/productions"), 401, "what you showed is unknown"
        )
        owner = self.local()
        made = owner.post("/api/account/tokens", json={"name": "Nightly", "rights": ["work"], "days": 30}).json()
        script = self.stranger(headers={"authorization": f"Bearer {made['secret']}"})
        self.assertEqual(script.post("/api/productions", json={"name": "A", "specification_id": "podcast-mono"}).status_code, 201)
        self.refused(script.post("/api/keys/roll"), 403, "The token “Nightly” may not do this: it can only read, work.")
        self.refused(script.post("/api/account/tokens", json={"name": "B", "rights": ["work"]}), 403, "may not do this")
        [listed] = owner.get("/api/account").json()["tokens"]
        self.assertEqual((listed["name"], listed["rights"]), ("Nightly", ["read", "work"]))
        self.assertIsNotNone(listed["used_at"])
        self.assertNotIn(made["secret"], owner.get("/api/account").text)
        with transaction() as session:
            session.execute(update(TokenRecord).values(expires_at=now() - timedelta(seconds=1)))
        self.assertEqual(script.get("/api/productions").status_code, 401)
        with transaction() as session:
            session.execute(update(TokenRecord).values(expires_at=now() + timedelta(days=1)))
        self.assertEqual(owner.delete(f"/api/account/tokens/{made['id']}").status_code, 204)
        self.assertEqual(script.get("/api/productions").status_code, 401)


class People(AccessCase):
    access = "accounts"

    @property
    def administrator(self) -> TestClient:
        with in_environment(ISPETTORE_ACCESS="start"), ExitStack() as left:
            local = self.local()
            if not local.get("/api/people").json():
                secret = local.post("/api/people", json={"sign_in": "ada", "name": "Ada Weir", "roles": ["administrator"]}).json()[
                    "secret"
                ]
                left.callback(local.post, "/api/access/join", json={"secret": secret, "password": GOOD})
        browser = self.stranger()
        self.assertEqual(self.sign_in(browser, "ada", GOOD).status_code, 204)
        return browser

    def sign_in(self, browser: TestClient, name: str, password: str):
        return browser.post("/api/access/sign-in", json={"sign_in": name, "password": password})

    def test_roles_give_what_they_say_and_refusals_name_who_to_ask(self):
        production = self.production_of(self.joined("olga", ["operator"]))
        needed = {
            "operator": ("PATCH", f"/api/productions/{production}", {"notes": "x"}),
            "reviewer": ("POST", f"/api/productions/{production}/certificate", {}),
            "administrator": ("PATCH", "/api/settings/defaults", {"name": "x"}),
        }
        for role in needed:
            browser = self.joined(f"only.{role}", [role])
            self.assertEqual(browser.get("/api/productions").status_code, 200)
            for needs, (method, path, body) in needed.items():
                with self.subTest(role=role, needs=needs):
                    answer = browser.request(method, path, json=body)
                    if needs == role:
                        self.assertNotIn(answer.status_code, (401, 403), answer.text)
                    else:
                        self.refused(answer, 403, f"This needs the role {needs}; you have {role}.")
            with self.subTest(role=role, needs="operator"), ExitStack() as refused:
                if role != "operator":
                    refused.enter_context(self.assertRaises(WebSocketDisconnect))
                with browser.websocket_connect(f"ws://127.0.0.1/api/productions/{production}/take-check") as socket:
                    socket.send_text("{}")
                    self.assertIn("can't be used", socket.receive_json()["error"])
        self.refused(self.joined("rita", ["reviewer"]).post(f"/api/productions/{production}/delivery/make"), 422, "")
        self.refused(self.joined("otto", ["operator"]).get("/api/trail"), 403, "administrator")
        self.assertEqual(
            self.joined("both", ["operator", "reviewer"]).get("/api/access").json()["me"]["rights"], ["certify", "read", "work"]
        )

    def production_of(self, browser: TestClient) -> str:
        return browser.post("/api/productions", json={"name": "Weir", "specification_id": "podcast-mono"}).json()["id"]

    def test_a_link_sets_a_password_once_and_within_a_week(self):
        administrator = self.administrator
        made = administrator.post("/api/people", json={"sign_in": " Ines@Mill ", "name": "Ines", "roles": ["operator"]}).json()
        browser, link = self.stranger(), {"secret": made["secret"]}
        told = browser.post("/api/access/invitation", json=link).json()
        self.assertEqual(told, {"name": "Ines", "sign_in": "ines@mill", "roles": ["operator"]})
        guessed = {"short": "short", "x" * 200: "long", "passwordpassword": "easy to guess", "ines@mill ines": "easy to guess"}
        for password, what in guessed.items():
            with self.subTest(password=password):
                self.refused(browser.post("/api/access/join", json={**link, "password": password}), 422, f"too {what}")
        self.assertEqual(browser.post("/api/access/join", json={**link, "password": GOOD}).status_code, 204)
        self.assertEqual(browser.get("/api/access").json()["me"]["name"], "Ines")
        self.refused(browser.post("/api/access/join", json={**link, "password": GOOD}), 410, "was used already")
        again = administrator.post(f"/api/people/{made['person']}/invitation").json()
        with transaction() as session:
            session.execute(update(InvitationRecord).values(expires_at=now() - timedelta(seconds=1)))
        self.refused(browser.post("/api/access/invitation", json={"secret": again["secret"]}), 410, "has expired")
        self.refused(browser.post("/api/access/invitation", json={"secret": "x"}), 410, "is not known here")
        taken = {"sign_in": "INES@mill", "name": "Other", "roles": ["operator"]}
        self.refused(administrator.post("/api/people", json=taken), 409, "is somebody's sign-in name already")
        self.refused(administrator.post("/api/people", json={**taken, "sign_in": "a b"}), 422, "can't be a sign-in name")

    def test_signing_in_is_throttled_and_tells_nobody_who_has_an_account(self):
        self.joined("una", ["operator"])
        words, before = {}, len(self.lines())
        for name in ("una", "nobody"):
            browser = self.stranger()
            for _ in range(5):
                answer = self.sign_in(browser, name, "wrong wrong wrong")
                self.assertEqual(answer.status_code, 403)
            words[name] = answer.json()["error"].replace(name, "…")
            self.refused(self.sign_in(browser, name, GOOD), 429, "Wait 15 min")
        self.assertEqual(*words.values())
        refused = [line for line in self.lines()[before:] if line.act == "signInRefused"]
        self.assertEqual([line.subjects for line in refused], [["una"]] * 5 + [["nobody"]] * 5)

    def test_sessions_end_by_sign_out_by_being_idle_and_with_the_account(self):
        browser = self.joined("vera", ["operator"])
        other = self.stranger()
        self.assertEqual(self.sign_in(other, "vera", GOOD).status_code, 204)
        listed = browser.get("/api/account").json()["sessions"]
        self.assertEqual(sorted(each["this"] for each in listed), [False, True])
        [there] = [each["id"] for each in listed if not each["this"]]
        self.assertEqual(self.joined("wim", ["operator"]).delete(f"/api/account/sessions/{there}").status_code, 404)
        self.assertEqual(browser.delete(f"/api/account/sessions/{there}").status_code, 204)
        self.assertEqual(other.get("/api/productions").status_code, 401)
        kept = dict(browser.cookies)
        self.assertEqual(browser.post("/api/access/sign-out").status_code, 204)
        self.assertEqual(
            self.stranger(cookies=kept).get("/api/productions").status_code, 401, "the cookie is worth nothing any more"
        )
        self.assertEqual(self.sign_in(browser, "vera", GOOD).status_code, 204)
        with transaction() as session:
            session.execute(update(SessionRecord).values(seen_at=now() - timedelta(hours=13)))
        self.assertEqual(browser.get("/api/productions").status_code, 401)
        self.assertEqual(self.sign_in(browser, "vera", GOOD).status_code, 204)
        administrator = self.administrator
        [vera] = [each for each in administrator.get("/api/people").json() if each["sign_in"] == "vera"]
        self.assertEqual(administrator.patch(f"/api/people/{vera['id']}", json={"ended": True}).status_code, 204)
        self.assertEqual(browser.get("/api/productions").status_code, 401)
        self.refused(self.sign_in(browser, "vera", GOOD), 403, "can't sign in")

    def test_a_new_password_signs_out_everywhere_else(self):
        browser, other = self.joined("xenia", ["operator"]), self.stranger()
        self.sign_in(other, "xenia", GOOD)
        change = {"old": "wrong wrong wrong", "new": "nine dull lanterns hum"}
        self.refused(browser.put("/api/account/password", json=change), 403, "can't sign in")
        self.assertEqual(browser.put("/api/account/password", json={**change, "old": GOOD}).status_code, 204)
        self.assertEqual((browser.get("/api/productions").status_code, other.get("/api/productions").status_code), (200, 401))
        self.assertEqual(self.sign_in(other, "xenia", change["new"]).status_code, 204)

    def test_one_administrator_always_stays(self):
        administrator = self.administrator
        people = {each["sign_in"]: each for each in administrator.get("/api/people").json()}
        for change in ({"roles": ["operator"]}, {"ended": True}):
            answer = administrator.patch(f"/api/people/{people['ada']['id']}", json=change)
            self.refused(answer, 409, "“Ada Weir” is the only administrator who can sign in.")

    def test_a_start_token_and_tokens_of_nobody_are_worth_nothing_where_people_sign_in(self):
        with in_environment(ISPETTORE_ACCESS="start"):
            local = self.local()
            secret = local.post("/api/account/tokens", json={"name": "A", "rights": ["work"]}).json()["secret"]
        for browser in (
            local,
            self.local(),
            self.stranger(headers={"authorization": f"Bearer {start.token()}"}),
            self.stranger(headers={"authorization": f"Bearer {secret}"}),
        ):
            self.refused(browser.get("/api/productions"), 401, "Sign in, or show a token.")

    def test_the_trail_tells_who_did_what_from_where_in_the_very_transaction(self):
        browser = self.joined("yara", ["operator"], name="Yara Sluice")
        before = len(self.lines())
        production = self.production_of(browser)
        self.assertEqual(browser.patch(f"/api/productions/{production}", json={"specification_id": "nonsense"}).status_code, 404)
        self.assertEqual(browser.post(f"/api/productions/{production}/remove").status_code, 204)
        made, removed = self.lines()[before:]
        self.assertEqual(
            (made.who, made.act, made.about, str(made.production_id)), ("Yara Sluice", "createProduction", "production", production)
        )
        self.assertEqual(
            (removed.act, removed.subjects, removed.way, removed.address),
            ("removeProduction", [production], "session", "testclient"),
        )
        administrator = self.administrator
        seen = administrator.get("/api/trail", params={"search": "yara"}).json()
        self.assertEqual([line["act"] for line in seen["lines"]][:2], ["Remove production", "Create production"])
        self.assertEqual((seen["lines"][0]["production"], seen["lines"][0]["way"]), ("Weir", "signed in"))
        self.assertEqual(
            administrator.get("/api/trail", params={"search": "remove production"}).json()["lines"][0]["who"], "Yara Sluice"
        )
        table = administrator.get("/api/trail.csv").text.splitlines()
        self.assertEqual(table[0].split(",")[:4], ["number", "time (UTC)", "who", "account"])
        self.assertEqual(len(table) - 1, administrator.get("/api/trail").json()["total"])
        self.assertTrue(any("Yara Sluice" in line and "removeProduction" in line and production in line for line in table))

    def test_what_writes_a_row_and_announces_nothing_is_noted_as_well(self):
        browser, before = self.joined("zita", ["operator"]), len(self.lines())
        with acting(Who(way="session", rights=RIGHTS, name="Zita", act=lambda: "somethingNew")):
            with transaction() as session:
                session.add(Importing(file_name="a.zip", size_bytes=1))
            with self.assertRaises(ZeroDivisionError), transaction() as session:
                session.add(Importing(file_name="b.zip", size_bytes=1))
                session.flush()
                raise ZeroDivisionError
            with transaction() as session:
                session.add(SignInTry(sign_in="x", address=""))
        [line] = self.lines()[before:]
        self.assertEqual((line.who, line.act, line.about, len(line.subjects)), ("Zita", "somethingNew", "importing", 1))
        self.assertEqual(browser.get("/api/productions").status_code, 200)
        self.assertEqual(len(self.lines()), before + 1, "looking is not noted")

    def test_the_database_changes_no_line_of_the_trail(self):
        self.joined("tom", ["operator"])
        for statement in ("UPDATE kept.trail SET who = 'x'", "DELETE FROM kept.trail", "TRUNCATE kept.trail"):
            with self.subTest(statement=statement), self.assertRaises(ProgrammingError), engine().begin() as connection:
                connection.execute(text(statement))
            with self.subTest(statement=statement, rights="given back"), engine().connect() as connection:
                connection.execute(text("GRANT UPDATE, DELETE, TRUNCATE ON kept.trail TO CURRENT_USER"))
                with self.assertRaisesRegex(ProgrammingError, "the trail only grows"):
                    connection.execute(text(statement))


class Certifying(AccessCase):
    access = "start"

    def test_a_certificate_names_who_certified_and_an_operator_gets_none(self):
        both = self.joined("zoe", ["administrator", "operator", "reviewer"], name="Zoe Ford")
        operator = self.joined("kit", ["operator"], name="Kit Ness")
        type(self).production = both.post("/api/productions", json={"name": "A", "specification_id": "podcast-mono"}).json()["id"]
        with transaction() as session:
            session.get_one(Production, self.production).delivering = {"certified_by": "Somebody Else"}
        found = {}
        for browser, name in ((both, "one.wav"), (operator, "two.wav")):
            where = f"/api/productions/{self.production}/recordings"
            recording = browser.put(where, params={"name": name}, content=self.voice(-24)).json()["id"]
            self.work(recording)
            attempt = browser.post(f"/api/recordings/{recording}/conform", json={}).json()["id"]
            self.work(attempt)
            found[name] = attempt
        with transaction() as session:
            [record] = session.exec(select(CertificateRecord)).all()
        self.assertEqual(str(record.subject_id), found["one.wav"])
        self.assertEqual(record.sealed["certificate"]["certified_by"], "Zoe Ford")
        with transaction() as session:
            judged = session.get_one(Conforming, UUID(found["two.wav"]))
        self.assertIsNotNone(judged.sha256, "what the operator asked for is made and measured all the same")
        self.assertIsNone(judged.certificate_id)
        withdrawn = {"reason": "Misread", "by": "Somebody Else"}
        self.refused(operator.post(f"/api/certificates/{record.id}/withdraw", json=withdrawn), 403, "needs the role reviewer")
        self.assertEqual(both.post(f"/api/certificates/{record.id}/withdraw", json=withdrawn).status_code, 204)
        with transaction() as session:
            self.assertEqual(session.get_one(CertificateRecord, record.id).notice["notice"]["by"], "Zoe Ford")


class Rules(unittest.TestCase):
    def test_what_is_listed_as_needing_something_is_there(self):
        there = {each["operationId"] for path in build().openapi()["paths"].values() for each in path.values()}
        there |= {route.name for route in every_route(build()) if isinstance(route, WebSocketRoute)}
        self.assertEqual(set(admission.NEEDS) - there, set())
        self.assertEqual(admission.OWN - there, set())

    def test_changing_needs_the_right_to_work_where_nothing_else_is_said(self):
        self.assertEqual(admission.needs("somethingNew", "POST"), {"work"})
        self.assertEqual(admission.needs("somethingNew", "GET"), {"read"})


if __name__ == "__main__":
    unittest.main()
