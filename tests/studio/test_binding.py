"""Where it may be reached from: refused before anything answers; encrypted, or behind a proxy that is named."""

import datetime
import ipaddress
import ssl
import unittest
from pathlib import Path

import httpx
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID
from sqlmodel import col, select

from ispettore.core.errors import IspettoreError
from ispettore.studio.access import binding, people
from ispettore.studio.access.letting_in import access
from ispettore.studio.database import transaction
from ispettore.studio.running.cluster import free_port
from ispettore.studio.settings import Settings
from ispettore.studio.tables import Person, TrailRecord
from tests.support import Application, end, in_environment

GOOD = "four grey herons wade slowly"


def certificate(folder: Path) -> tuple[Path, Path]:
    """A certificate for 127.0.0.1 that signs itself, and its key."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "mill.test")])
    now = datetime.datetime.now(datetime.UTC)
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - datetime.timedelta(hours=1))
        .not_valid_after(now + datetime.timedelta(days=1))
        .add_extension(x509.SubjectAlternativeName([x509.IPAddress(ipaddress.ip_address("127.0.0.1"))]), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(key, hashes.SHA256())
    )
    paths = folder / "tls.pem", folder / "tls-key.pem"
    paths[0].write_bytes(made.public_bytes(serialization.Encoding.PEM))
    plain = serialization.NoEncryption()
    paths[1].write_bytes(key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, plain))
    return paths


class Binding(unittest.TestCase):
    def setUp(self):
        self.application = Application().start()
        self.addCleanup(self.application.stop)

    def administrator(self) -> None:
        secret = people.invite(sign_in="ada", name="Ada Weir", roles=["administrator", "operator"]).secret
        people.accept(secret, GOOD, address="", agent="")

    def refused(self, **chosen) -> str:
        with self.assertRaises(IspettoreError) as caught:
            binding.check(Settings(**chosen))
        return caught.exception.sentence

    def test_other_machines_are_let_near_only_where_people_sign_in_encrypted_by_a_known_name(self):
        wide = {"host": "0.0.0.0", "access": "accounts", "allowed_hosts": "mill.test"}
        encrypted = {"tls_certificate": Path("a"), "tls_key": Path("b")}
        for lets_in in ("open", "start"):
            self.assertIn("other machines would reach it", self.refused(**{**wide, "access": lets_in, **encrypted}))
        self.assertIn("“*” won't do", self.refused(**{**wide, "allowed_hosts": "*", **encrypted}))
        self.assertIn(
            "it has to know by which names", self.refused(**{**wide, "allowed_hosts": "127.0.0.1,localhost", **encrypted})
        )
        self.assertIn("in the clear", self.refused(**wide))
        self.assertIn("in the clear", self.refused(**wide, tls_certificate=Path("a")))
        self.assertIn("there is no administrator yet", self.refused(**wide, **encrypted))
        self.assertIn("there is no administrator yet", self.refused(host="127.0.0.1", access="accounts"))
        self.administrator()
        binding.check(Settings(**wide, **encrypted))
        binding.check(Settings(**wide, trusted_proxies="192.0.2.1"))
        binding.check(Settings(host="127.0.0.1", access="accounts"))

    def test_where_nothing_is_set_others_have_to_sign_in_and_this_machine_shows_its_token(self):
        self.assertEqual([access(Settings(host=host, access="")) for host in ("127.0.0.1", "::1", "0.0.0.0", "192.0.2.7")],
                         ["start", "start", "accounts", "accounts"])  # fmt: skip

    def test_a_web_process_that_may_not_be_reached_ends_with_the_sentence(self):
        with in_environment(ISPETTORE_HOST="0.0.0.0", ISPETTORE_ACCESS="open"), self.assertRaises(AssertionError):
            self.application.web()
        self.assertIn("Ispettore does not start: at 0.0.0.0 other machines would reach it", self.application.log())

    def test_encrypted_sessions_are_kept_for_this_host_alone_and_never_sent_in_the_clear(self):
        self.administrator()
        cert, key = certificate(self.application.folder)
        with in_environment(ISPETTORE_ACCESS="accounts", ISPETTORE_TLS_CERTIFICATE=str(cert), ISPETTORE_TLS_KEY=str(key)):
            trusted = ssl.create_default_context(cafile=str(cert))
            process = self.application.web(trusted=trusted)
            self.addCleanup(end, process)
            with httpx.Client(base_url=self.application.address, verify=trusted, trust_env=False) as browser:
                answer = browser.post("/api/access/sign-in", json={"sign_in": "ada", "password": GOOD})
                self.assertEqual(answer.status_code, 204)
                cookie = answer.headers["set-cookie"]
                for part in ("__Host-ispettore=", "Secure", "HttpOnly", "SameSite=strict", "Path=/"):
                    self.assertIn(part, cookie)
                self.assertEqual(browser.get("/api/productions").status_code, 200)

    def test_only_proxies_that_are_named_are_believed(self):
        self.administrator()
        told = {"x-forwarded-proto": "https", "x-forwarded-for": "192.0.2.9"}
        body = {"sign_in": "ada", "password": GOOD}
        for named, cookie, address in (("", "ispettore-", "127.0.0.1"), ("127.0.0.1", "__Host-ispettore", "192.0.2.9")):
            port = str(free_port())
            with (
                self.subTest(named=named),
                in_environment(ISPETTORE_ACCESS="accounts", ISPETTORE_TRUSTED_PROXIES=named, ISPETTORE_PORT=port),
            ):
                process = self.application.web()
                self.addCleanup(end, process)
                answer = httpx.post(f"{self.application.address}api/access/sign-in", json=body, headers=told, trust_env=False)
                self.assertEqual(answer.status_code, 204)
                self.assertTrue(answer.headers["set-cookie"].startswith(cookie))
                with transaction() as session:
                    line = session.exec(select(TrailRecord).order_by(col(TrailRecord.number).desc()).limit(1)).one()
                self.assertEqual((line.act, line.address), ("signIn", address))

    def test_the_command_invites_the_first_administrator_and_again(self):
        from typer.testing import CliRunner

        from ispettore.cli import app

        run = CliRunner().invoke
        self.assertIn("There is no role “boss”", run(app, ["invite", "ada", "--role", "boss"]).output)
        self.assertIn("must be an administrator's", run(app, ["invite", "ada", "--role", "operator"]).output)
        first = run(app, ["invite", "ada", "--role", "administrator", "--name", "Ada Weir"])
        again = run(app, ["invite", "ada", "--role", "administrator", "--role", "reviewer"])
        self.assertEqual((first.exit_code, again.exit_code), (0, 0), first.output + again.output)
        links = [each.output.strip().rpartition("#/join/")[2] for each in (first, again)]
        with self.assertRaises(IspettoreError):
            people.invitation(links[0])
        self.assertEqual(people.invitation(links[1]).roles, ["reviewer", "administrator"])
        with transaction() as session:
            [ada] = session.exec(select(Person)).all()
        self.assertEqual((ada.sign_in, ada.name), ("ada", "Ada Weir"))


if __name__ == "__main__":
    unittest.main()
