"""Getting in and out, people and what they may do, in a real browser on a web process of its own that lets in nobody unknown."""

import re
import unittest

from playwright.sync_api import Page, expect

from ispettore.studio.access import start
from ispettore.studio.catalogue import productions
from ispettore.studio.running.cluster import free_port
from tests.support import end, in_environment
from tests.ui import words
from tests.ui.interface import InterfaceCase

GOOD = "four grey herons wade slowly"
OTHER = "nine dull lanterns hum"
AUTHENTICATOR = {
    "protocol": "ctap2",
    "transport": "internal",
    "hasResidentKey": True,
    "hasUserVerification": True,
    "isUserVerified": True,
    "automaticPresenceSimulation": True,
}


class People(InterfaceCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.enterClassContext(in_environment(ISPETTORE_ACCESS="start", ISPETTORE_PORT=str(free_port())))
        cls.addClassCleanup(end, cls.application.web())
        cls.address = cls.application.address.replace("127.0.0.1", "localhost")  # passkeys need a name

    def setUp(self):
        super().setUp()
        self.application.empty()

    def opened(self) -> None:
        """Open the address that the start printed."""
        self.page.goto(f"{self.address}start/{start.token()}")
        expect(self.page.get_by_role("heading", name=words.PRODUCTIONS)).to_be_visible()

    def browser_of(self, link: str) -> Page:
        """Another browser, with an authenticator of its own, at a link."""
        context = self.browser.new_context(viewport={"width": 1280, "height": 800})
        self.addCleanup(context.close)
        page = context.new_page()
        page.set_default_timeout(60_000)
        devtools = context.new_cdp_session(page)
        devtools.send("WebAuthn.enable")
        devtools.send("WebAuthn.addVirtualAuthenticator", {"options": AUTHENTICATOR})
        page.goto(link)
        return page

    def invite(self, name: str, sign_in: str, *roles: str) -> str:
        """Invite somebody on the screen; the link."""
        self.page.goto(f"{self.address}#/people")
        self.page.get_by_role("button", name="Invite a person…").click()
        dialog = self.page.get_by_role("dialog", name="Invite a person")
        dialog.get_by_label("Name, as certificates show it").fill(name)
        dialog.get_by_label(words.SIGN_IN_NAME).fill(sign_in)
        for box in dialog.get_by_role("checkbox").all():
            box.uncheck()
        for role in roles:
            dialog.get_by_role("checkbox", name=re.compile(role)).check()
        dialog.get_by_role("button", name="Make the link").click()
        field = self.page.get_by_role("textbox", name="Link")
        expect(field).to_have_value(re.compile(r"/#/join/[\w-]{43}$"))
        link = field.input_value()
        self.page.get_by_role("dialog", name="Link").get_by_role("button", name=words.CLOSE).click()
        return link

    def joined(self, link: str) -> Page:
        page = self.browser_of(link)
        page.get_by_label("Password").fill(GOOD)
        page.get_by_label("The same again").fill(GOOD)
        page.get_by_role("button", name="Set password and sign in").click()
        expect(page.get_by_role("heading", name=words.PRODUCTIONS)).to_be_visible()
        return page

    def test_a_browser_that_is_not_known_sees_the_way_in_and_nothing_else(self):
        productions.create("Tidal mill", "audiobook-retail")
        asked = []
        self.page.on("request", lambda request: "/api/" in request.url and asked.append(request.url.partition("/api")[2]))
        self.page.goto(f"{self.address}#/settings")
        expect(self.page.get_by_role("heading", name=words.SIGN_IN)).to_be_visible()
        expect(self.page.locator("main")).to_contain_text("Open the address that Ispettore printed when it started")
        expect(self.page.get_by_role("navigation")).to_have_count(0)
        self.page.wait_for_load_state("networkidle")
        self.assertEqual(asked, ["/access"])
        self.accessible()
        self.opened()
        expect(self.page.get_by_role("link", name="Tidal mill")).to_be_visible()
        self.assertNotIn(start.token(), self.page.url)
        self.assertEqual(self.page.evaluate("() => document.cookie"), "", "no script reads what lets this browser in")
        self.page.reload()
        expect(self.page.get_by_role("link", name="Tidal mill")).to_be_visible()

    def test_from_an_invitation_to_a_passkey_and_out_again(self):
        self.opened()
        self.page.goto(f"{self.address}#/people")
        expect(self.page.get_by_text("No accounts")).to_be_visible()
        page = self.joined(self.invite("Ada Weir", "ada", "Administrator", "Operator"))
        expect(self.page.locator("tr[data-person=ada]")).to_contain_text("Active")
        self.accessible()
        page.get_by_role("link", name="Ada Weir").click()
        expect(page.locator("main")).to_contain_text("Signed in as ada: operator, administrator.")
        page.get_by_role("button", name="Add a passkey…").click()
        page.get_by_label("Name of the passkey").fill("Desk")
        page.get_by_role("button", name="Add passkey").click()
        expect(page.get_by_role("table", name="Passkeys")).to_contain_text("Desk")
        page.get_by_role("button", name=words.SIGN_OUT).click()
        expect(page.get_by_role("heading", name=words.SIGN_IN)).to_be_visible()
        page.get_by_label(words.SIGN_IN_NAME).fill("ada")
        page.get_by_label("Password").fill("not this one at all")
        page.get_by_label("Password").press("Enter")
        expect(page.get_by_role("alert")).to_contain_text("“ada” can't sign in with this password.")
        page.get_by_role("button", name="Sign in with a passkey").click()
        expect(page.get_by_role("link", name="Ada Weir")).to_be_visible()
        page.get_by_role("link", name="Ada Weir").click()
        page.get_by_role("button", name="Change password…").click()
        dialog = page.get_by_role("dialog", name="Change password")
        dialog.get_by_label("Password so far").fill(GOOD)
        dialog.get_by_label("New password").fill("short")
        dialog.get_by_role("button", name="Change password").click()
        expect(dialog.get_by_role("alert")).to_contain_text("This password is too short.")
        dialog.get_by_label("New password").fill(OTHER)
        dialog.get_by_role("button", name="Change password").click()
        expect(page.locator("main")).to_contain_text("Password changed")
        page.get_by_role("button", name=words.SIGN_OUT).first.click()
        page.get_by_label(words.SIGN_IN_NAME).fill("ada")
        page.get_by_label("Password").fill(OTHER)
        page.get_by_role("button", name="Sign in", exact=True).click()
        expect(page.get_by_role("link", name="Ada Weir")).to_be_visible()

    def test_an_account_that_ends_is_shown_out_at_once_and_asks_no_more(self):
        self.opened()
        self.invite("Ada Weir", "ada", "Administrator")
        page = self.joined(self.invite("Tom Reed", "tom", "Operator"))
        self.page.get_by_role("button", name="Change roles of Tom Reed").click()
        roles = self.page.get_by_role("dialog", name="Roles of Tom Reed")
        roles.get_by_role("checkbox", name=re.compile("Reviewer")).check()
        roles.get_by_role("button", name="Save roles").click()
        expect(self.page.locator("tr[data-person=tom]")).to_contain_text("Operator, Reviewer")
        page.get_by_role("link", name="Tom Reed").click()
        expect(page.locator("main")).to_contain_text("Signed in as tom: operator, reviewer.")
        self.page.get_by_role("button", name="End the account of Tom Reed").click()
        asking = self.page.get_by_role("dialog", name="End the account of Tom Reed")
        asking.get_by_role("button", name="End the account").click()
        expect(page.get_by_role("heading", name=words.SIGN_IN)).to_be_visible()
        asked = []
        page.on("request", lambda request: asked.append(request.url))
        page.wait_for_load_state("networkidle")
        self.page.get_by_role("button", name="Reopen the account of Tom Reed").click()
        expect(self.page.locator("tr[data-person=tom]")).to_contain_text("Active")
        self.assertLess(len(asked), 5, asked)

    def test_what_a_role_does_not_give_is_refused_in_words_and_all_is_in_the_trail(self):
        self.opened()
        self.invite("Ada Weir", "ada", "Administrator")
        page = self.joined(self.invite("Rita Ford", "rita", "Reviewer"))
        page.get_by_role("textbox", name=words.NAME).fill("Tidal mill")
        page.get_by_role("button", name=words.CREATE_PRODUCTION).click()
        expect(page.get_by_role("alert")).to_contain_text("This needs the role operator; you have reviewer.")
        page.goto(f"{self.address}#/trail")
        expect(page.get_by_role("alert")).to_contain_text("This needs the role administrator")
        self.page.goto(f"{self.address}#/trail")
        trail = self.page.get_by_role("table", name="Trail")
        expect(trail).to_contain_text("Invite person: Rita Ford")
        self.page.get_by_role("searchbox").fill("rita")
        expect(trail.get_by_role("row")).to_have_count(2)  # the head, and how she came in
        expect(trail).to_contain_text("Join")
        self.accessible()

    def test_a_token_is_shown_once_and_ends(self):
        self.opened()
        self.page.goto(f"{self.address}#/account")
        self.page.get_by_role("button", name="Make a token…").click()
        dialog = self.page.get_by_role("dialog", name="Make a token")
        dialog.get_by_label("What it is for").fill("Nightly")
        dialog.get_by_role("button", name="Make token").click()
        secret = self.page.get_by_role("textbox", name="Token")
        expect(secret).to_have_value(re.compile("^ispettore_"))
        shown = {"authorization": f"Bearer {secret.input_value()}"}
        self.page.get_by_role("dialog", name="Token", exact=True).get_by_role("button", name=words.CLOSE).click()
        ask = self.browser.new_context(extra_http_headers=shown).request
        self.assertEqual(ask.get(f"{self.address}api/productions").status, 200)
        expect(self.page.get_by_role("table", name="Tokens")).to_contain_text("read, work")
        self.accessible()
        self.page.get_by_role("button", name="End Nightly").click()
        expect(self.page.get_by_role("table", name="Tokens")).to_have_count(0)
        self.assertEqual(ask.get(f"{self.address}api/productions").status, 401)
        ask.dispose()


if __name__ == "__main__":
    unittest.main()
