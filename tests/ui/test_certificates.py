"""Certificates in the browser: listed, looked at, issued again, withdrawn, verified from the PDF alone; a production; and keys."""

import re
from pathlib import Path

from playwright.sync_api import expect

from ispettore.core.certify.keys import KeyFolder
from tests.ui import words
from tests.ui.interface import InterfaceCase


class CertificateScreens(InterfaceCase):
    def book(self, *levels: float, name: str = "Book of floods") -> None:
        """Chapters of a book whose files are made, on its deliver screen."""
        self.open_production(name)
        names = [f"{number:02} Ebb.wav" for number in range(1, len(levels) + 1)]
        self.drop(*[self.wav(name, rms_dbfs=level, room_dbfs=-78) for name, level in zip(names, levels, strict=True)])
        for name in names:
            self.judged(name)
        self.page.get_by_role("link", name=words.DELIVER).click()
        by = self.page.get_by_label(words.CERTIFIED_BY)
        by.fill("Ilse Weir")
        by.press("Enter")
        self.page.get_by_role("button", name=f"Make {len(levels)} file").click()
        for name in names:
            expect(self.page.locator(f'[data-deliver="{name}"]').get_by_role("link", name=words.CERTIFIED)).to_be_visible()

    def saved(self, link: str) -> tuple[str, bytes]:
        with self.page.expect_download() as one:
            self.page.get_by_role("link", name=link).first.click()
        return one.value.suggested_filename, Path(one.value.path()).read_bytes()

    def verify(self, *files: tuple[str, bytes]) -> None:
        self.page.get_by_role("link", name=words.VERIFY).first.click()
        expect(self.page.get_by_role("heading", name=words.VERIFY)).to_be_visible()
        self.drop(*files)

    def test_a_production_is_certified_checked_by_its_package_and_one_file_withdrawn(self):
        self.book(-20, -20.4, name="Book of ebbs")
        whole = self.page.get_by_role("region", name="Certificate of the production")
        expect(whole).to_contain_text("Every file is made and every limit on the production is met.")
        whole.get_by_role("button", name=words.CERTIFY_THE_PRODUCTION).click()
        whole.get_by_role("link", name=words.PRODUCTION_CERTIFIED).click()
        paper = self.page.get_by_role("article", name="Certificate of a production")
        expect(paper).to_contain_text("2 files")
        expect(paper).to_contain_text("Ilse Weir")
        self.accessible()
        printed = self.saved("PDF, with the certificate inside")
        self.assertEqual(printed[0], "Book of ebbs.certificate.pdf")
        self.page.go_back()
        package = self.saved("Download all as ZIP")
        self.verify(printed, package)
        expect(self.page.locator(".answer")).to_contain_text(words.GENUINE)
        expect(self.page.locator("section.sheet")).to_contain_text("is the certified package")
        expect(self.page.locator("section.sheet dd", has_text="02 Ebb.mp3")).to_be_visible()

        # One of its files is withdrawn: its row, its certificate and the check of the package say so.
        self.page.get_by_role("link", name=words.CERTIFICATES, exact=True).click()
        self.page.get_by_label(re.compile("^Production")).select_option("Book of ebbs")
        expect(self.page.locator("tbody tr")).to_have_count(5)
        self.page.get_by_label(re.compile("^Of ")).select_option("Delivered files")
        expect(self.page.locator("tbody tr")).to_have_count(2)
        self.accessible()
        self.page.get_by_role("link", name="01 Ebb.mp3").click()
        self.page.get_by_role("button", name="Withdraw…").click()
        dialog = self.page.get_by_role("dialog", name="Withdraw this certificate")
        expect(dialog.get_by_role("button", name="Withdraw")).to_be_disabled()
        dialog.get_by_label(words.REASON).fill("A misread word")
        dialog.get_by_role("button", name="Withdraw").click()
        expect(self.page.get_by_role("article")).to_contain_text(re.compile("Withdrawn on .*: A misread word"))
        expect(self.page.get_by_role("button", name="Withdraw…")).to_have_count(0)
        notice = self.saved("Notice of its end")
        self.assertEqual(notice[0], "01 Ebb.mp3.notice.json")
        self.verify(printed, package)
        expect(self.page.locator(".answer")).to_contain_text(words.NOT_GENUINE)
        expect(self.page.locator("section.sheet")).to_contain_text("01 Ebb.mp3: It was withdrawn on")

    def test_a_pdf_alone_and_one_issued_again_after_listening(self):
        self.book(-20)
        self.page.locator('[data-deliver="01 Ebb.wav"]').get_by_role("link", name=words.CERTIFIED).click()
        expect(self.page.get_by_role("article")).to_contain_text("Not recorded")
        printed = self.saved("PDF, with the certificate inside")
        self.page.get_by_role("button", name="Issue again…").click()
        dialog = self.page.get_by_role("dialog", name="Issue this certificate again")
        dialog.get_by_label(words.REASON).fill("Somebody else answers for it")
        dialog.get_by_role("button", name="Issue again").click()
        expect(self.page.get_by_role("article")).to_contain_text("Replaces")
        self.page.get_by_role("link", name="The certificate before it").click()
        expect(self.page.get_by_role("article")).to_contain_text("Somebody else answers for it")

        self.page.get_by_role("link", name=words.VERIFY).first.click()
        self.drop(printed)
        self.page.get_by_role("button", name="Check the certificate only").click()
        expect(self.page.locator(".answer")).to_contain_text("Genuine, but superseded")
        expect(self.page.locator("section.sheet")).to_contain_text("Only the certificate was checked")
        self.accessible()

    def test_keys_are_trusted_by_hand_and_rolled_over(self):
        self.book(-20)
        self.page.locator('[data-deliver="01 Ebb.wav"]').get_by_role("link", name=words.CERTIFIED).click()
        printed = self.saved("PDF, with the certificate inside")
        self.page.get_by_role("link", name="keys", exact=True).click()
        own = self.page.locator('tr[data-role="own"]')
        fingerprint = own.locator("td").first.inner_text()
        self.accessible()
        friend = KeyFolder(self.application.folder / "friend")
        friend.own()
        public = friend.listed()[0]
        self.page.get_by_label("Public key to trust").set_input_files(
            {"name": "Mill house.pem", "mimeType": "application/x-pem-file", "buffer": public.pem}
        )
        dialog = self.page.get_by_role("dialog", name="Trust this key")
        expect(dialog.get_by_label("Whose it is")).to_have_value("Mill house")
        dialog.get_by_role("button", name="Trust it").click()
        row = self.page.locator('tr[data-role="trusted"]')
        expect(row).to_contain_text(public.fingerprint)
        row.get_by_role("button", name="Trust no more").click()
        expect(row).to_have_count(0)

        self.page.get_by_role("button", name=words.MAKE_A_KEY).click()
        self.page.get_by_role("dialog").get_by_role("button", name="Make a new key").click()
        expect(self.page.locator('tr[data-role="retired"]').first).to_contain_text(fingerprint)
        expect(own).not_to_contain_text(fingerprint)
        self.page.get_by_role("link", name=words.VERIFY).first.click()
        self.drop(printed)
        self.page.get_by_role("button", name="Check the certificate only").click()
        expect(self.page.locator(".answer")).to_have_text(re.compile("Genuine"))
