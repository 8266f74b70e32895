"""The command line as scripts meet it: exit statuses and JSON."""

import contextlib
import io
import json
import os
import shutil
import subprocess
import sys
import tempfile
import unittest
import zipfile
from datetime import UTC, datetime
from pathlib import Path
from typing import NamedTuple
from unittest import mock

from typer.testing import CliRunner

from ispettore import cli
from ispettore.commands import progress
from ispettore.core.certify import seal as sealing
from ispettore.core.certify.certificate import hash_of
from ispettore.core.certify.keys import KeyFolder
from ispettore.core.certify.notices import Notice
from tests import signals

RATE = 44_100


class Done(NamedTuple):
    returncode: int
    stdout: str
    stderr: str


class CommandLine(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)
        quiet = signals.voice_like(12, rms_dbfs=-33, rate=RATE, room_dbfs=-80)
        signals.write(cls.folder / "quiet.wav", quiet, RATE)
        signals.write(cls.folder / "noisy.wav", signals.voice_like(12, rms_dbfs=-22, rate=RATE, room_dbfs=-36), RATE)
        (cls.folder / "text.mp3").write_text("not audio at all\n" * 50)
        (cls.folder / "empty.wav").write_bytes(b"")

    def call(self, *arguments: str) -> Done:
        """The command in this process: much quicker than another, and the same but for its start."""
        with contextlib.chdir(self.folder):
            done = CliRunner().invoke(cli.app, arguments, env={"ISPETTORE_KEYS": str(self.folder / "keys")})
        if done.exception is not None and not isinstance(done.exception, SystemExit):
            raise done.exception
        return Done(done.exit_code, done.stdout, done.stderr)

    def start(self, *arguments: str) -> Done:
        """The command as a shell starts it."""
        environment = {**os.environ, "ISPETTORE_KEYS": str(self.folder / "keys")}
        command = [sys.executable, "-m", "ispettore.cli", *arguments]
        done = subprocess.run(command, cwd=self.folder, env=environment, capture_output=True, text=True, check=False)
        return Done(done.returncode, done.stdout, done.stderr)

    def test_the_whole_way_from_recording_to_certificate(self):
        seen = self.start("inspect", "quiet.wav", "--spec", "audiobook-retail", "--json")
        self.assertEqual(seen.returncode, 1)
        [row] = json.loads(seen.stdout)
        self.assertEqual(set(row), {"path", "sha256", "facts", "readings", "notes", "findings", "verdict"})
        self.assertAlmostEqual(row["readings"]["rms_dbfs"], -33, delta=0.2)
        keys = {"quantity", "low", "high", "reading", "passes", "margin", "severity"}
        self.assertTrue(all(keys <= set(limit) for limit in row["verdict"]["limits"]))

        peak = next(limit for limit in row["verdict"]["limits"] if limit["quantity"] == "rms_dbfs")
        self.assertFalse(peak["passes"])
        self.assertIsInstance(row["verdict"]["breaches"], list)

        made = self.call("conform", "quiet.wav", "--spec", "audiobook-retail", "--out", "out.mp3", "--json")
        self.assertEqual(made.returncode, 0, made.stderr)
        result = json.loads(made.stdout)
        self.assertEqual([step["kind"] for step in result["plan"]["steps"]], ["gain"])
        self.assertEqual(result["plan"]["touch"], 0)
        self.assertTrue(result["verdict"]["passes"])
        self.assertEqual(result["after"]["facts"]["codec"], "mp3")

        self.assertEqual(self.call("certify", "out.mp3", "--spec", "audiobook-retail", "--out", "c.json").returncode, 0)
        self.assertEqual(self.call("verify", "c.json", "out.mp3").returncode, 0)
        self.assertEqual(self.start("verify", "c.json", "quiet.wav").returncode, 1)
        known = self.call("verify", "c.json", "out.mp3", "--key", str(self.folder / "keys" / "seal-public.pem"), "--json")
        self.assertEqual(json.loads(known.stdout)["key"], "given")

    def test_obstacles_end_with_1_and_write_nothing(self):
        made = self.call("conform", "noisy.wav", "--spec", "audiobook-retail", "--out", "n.mp3", "--json")
        self.assertEqual(made.returncode, 1)
        result = json.loads(made.stdout)
        self.assertIsNone(result["after"])
        self.assertEqual(result["obstacles"][0]["limits"], ["rms_dbfs", "noise_floor_dbfs"])
        self.assertFalse((self.folder / "n.mp3").exists())

    def test_plans_are_said_without_running_any(self):
        made = self.call("plan", "quiet.wav", "--spec", "audiobook-retail", "--json")
        self.assertEqual(made.returncode, 0, made.stderr)
        said = json.loads(made.stdout)
        self.assertEqual(said["obstacles"], [])
        [plan] = said["plans"]
        self.assertEqual((plan["preference"], [step["kind"] for step in plan["steps"]]), ("light", ["gain"]))
        self.assertAlmostEqual(plan["predicted"]["rms_dbfs"], -20.5, delta=0.1)
        self.assertEqual((plan["touch"]["voice"], plan["touch"]["room"]), (0, 0))
        refused = self.call("plan", "noisy.wav", "--spec", "audiobook-retail", "--json")
        self.assertEqual(refused.returncode, 1)
        told = json.loads(refused.stdout)
        self.assertEqual(told["plans"], [])
        self.assertEqual([given["kind"] for given in told["obstacles"][0]["could_give"]][-2:], ["noise-reduction", "expander"])
        text = self.call("plan", "quiet.wav", "--spec", "audiobook-retail").stdout
        self.assertIn("Light: touch about 0 of 100 (voice 0, room 0)", text)
        self.assertIn("RMS level", text)
        self.assertIn("Can't meet this specification.", self.call("plan", "noisy.wav", "--spec", "audiobook-retail").stdout)
        self.assertEqual(sorted(path.suffix for path in self.folder.iterdir() if path.name.startswith(".")), [])

    def test_bounds_of_ones_own(self):
        (self.folder / "wide.json").write_text(json.dumps({"noise_reduction_db": 18, "pauses_db": 30}))
        wide = self.call("plan", "noisy.wav", "--spec", "audiobook-retail", "--bounds", "wide.json", "--json")
        self.assertEqual(wide.returncode, 0, wide.stdout)
        self.assertGreater(json.loads(wide.stdout)["plans"][0]["steps"][0]["settings"]["amount_db"], 12)
        for text, word in (
            ("{", "not JSON"),
            ('{"gentleness": 3}', "gentleness: there is no such bound; known are limiting_db"),
            ('{"ratio": 99}', "ratio"),
            ("[1]", "bad-bounds.json"),
        ):
            (self.folder / "bad-bounds.json").write_text(text)
            refused = self.call("plan", "quiet.wav", "--spec", "audiobook-retail", "--bounds", "bad-bounds.json")
            self.assertEqual(refused.returncode, 2, refused.stdout)
            self.assertIn(word, refused.stderr)
        absent = self.call("conform", "quiet.wav", "--spec", "audiobook-retail", "--out", "b.mp3", "--bounds", "none.json")
        self.assertEqual(absent.returncode, 2)
        self.assertFalse((self.folder / "b.mp3").exists())

    def test_broken_files_end_with_2_and_a_sentence(self):
        for name in ("text.mp3", "empty.wav", "absent.wav"):
            for command in (("inspect", name), ("conform", name, "--spec", "audiobook-retail", "--out", "x.mp3")):
                done = (self.start if name == "empty.wav" else self.call)(*command)
                with self.subTest(name=name, command=command[0]):
                    self.assertEqual(done.returncode, 2)
                    self.assertIn(name, done.stderr)
                    self.assertNotIn("Traceback", done.stderr)

    def test_one_broken_file_does_not_hide_the_others(self):
        done = self.call("inspect", "text.mp3", "quiet.wav", "--json")
        self.assertEqual(done.returncode, 2)
        rows = json.loads(done.stdout)
        self.assertIn("error", rows[0])
        self.assertIn("readings", rows[1])

    def test_wrong_words_are_explained(self):
        self.assertIn("audiobook-retail", self.call("inspect", "quiet.wav", "--spec", "nonsense").stderr)
        self.assertIn(
            "light, balanced and even",
            self.call("conform", "quiet.wav", "--spec", "podcast-mono", "--out", "x.wav", "--plan", "hard").stderr,
        )
        self.assertEqual(self.call("certify", "quiet.wav", "--spec", "audiobook-retail", "--out", "q.json").returncode, 1)
        self.assertFalse((self.folder / "q.json").exists())

    def test_specs(self):
        self.assertEqual(len(json.loads(self.call("specs", "--json").stdout)), 8)
        self.assertIn("broadcast-a85", self.call("specs").stdout)

    def test_a_treatment_of_ones_own_and_a_printed_certificate(self):
        own = {"version": 1, "name": "louder", "steps": [{"kind": "gain", "settings": {"gain_db": 12.5}}]}
        (self.folder / "own.json").write_text(json.dumps(own))
        (self.folder / "bad.json").write_text(json.dumps({"steps": [{"kind": "reverb"}]}))
        arguments = ("conform", "quiet.wav", "--spec", "audiobook-retail")
        made = self.call(*arguments, "--out", "own.mp3", "--treatment", "own.json", "--json")
        self.assertEqual(made.returncode, 0, made.stdout + made.stderr)
        self.assertAlmostEqual(json.loads(made.stdout)["after"]["readings"]["rms_dbfs"], -20.8, delta=0.3)
        refused = self.call(*arguments, "--out", "bad.mp3", "--treatment", "bad.json")
        self.assertEqual(refused.returncode, 2)
        self.assertIn("no step “reverb”", refused.stderr)
        printed = self.call("certify", "own.mp3", "--spec", "audiobook-retail", "--out", "own-c.json", "--pdf", "own.pdf")
        self.assertEqual(printed.returncode, 0, printed.stderr)
        self.assertTrue((self.folder / "own.pdf").read_bytes().startswith(b"%PDF"))

    def test_a_certificate_is_checked_from_its_pdf_alone_and_by_notices(self):
        self.assertEqual(self.call("conform", "quiet.wav", "--spec", "audiobook-retail", "--out", "kept.mp3").returncode, 0)
        asked = (
            "certify",
            "kept.mp3",
            "--spec",
            "audiobook-retail",
            "--out",
            "kept.json",
            "--pdf",
            "kept.pdf",
            "--by",
            "Ilse Weir",
        )
        self.assertEqual(self.call(*asked).returncode, 0)
        for given in (("kept.pdf",), ("kept.pdf", "kept.mp3"), ("kept.json",)):
            with self.subTest(given=given):
                self.assertEqual(self.call("verify", *given).returncode, 0)
        self.assertIn("Only the certificate was checked", self.call("verify", "kept.pdf").stdout)
        self.assertEqual(json.loads((self.folder / "kept.json").read_text())["certificate"]["certified_by"], "Ilse Weir")
        self.assertEqual(self.call("verify", "kept.json", "keys").returncode, 2, "a folder is no file")
        keys = KeyFolder(self.folder / "keys")
        content = json.loads((self.folder / "kept.json").read_text())["certificate"]
        for ending, status, words in (("superseded", 0, "It was superseded on"), ("withdrawn", 1, "Withdrawn: kept.mp3")):
            notice = Notice(
                certificate=hash_of(content), ending=ending, when=datetime.now(UTC), reason="A misread word", issuer="x"
            )
            sealing.write(sealing.seal(notice.model_dump(mode="json"), keys.own(), what="notice"), self.folder / "notice.json")
            told = self.call("verify", "kept.json", "kept.mp3", "--notice", "notice.json")
            with self.subTest(ending=ending):
                self.assertEqual(told.returncode, status)
                self.assertIn(words, told.stdout)
                self.assertIn("A misread word", told.stdout)
        self.assertEqual(self.call("verify", "kept.json", "--notice", "nowhere.json").returncode, 2)

    def test_an_archive_is_checked_by_itself(self):
        golden = Path(__file__).parent / "golden" / "archive-1.zip"
        done = self.call("check-archive", str(golden))
        self.assertEqual(done.returncode, 3)
        self.assertIn("Intact: archive-1.zip was not changed since it was sealed with the key ", done.stdout)
        self.assertIn("Almanac: a mill: 2 recordings, 48 files, ", done.stdout)
        with zipfile.ZipFile(golden) as zipped:
            members = {name: zipped.read(name) for name in zipped.namelist()}
        [key] = [name for name in members if name.startswith("keys/")]
        (self.folder / "mill.pem").write_bytes(members[key])
        told = self.call("check-archive", str(golden), "--key", "mill.pem", "--json")
        self.assertEqual((told.returncode, json.loads(told.stdout)["trusted"]), (0, True))
        self.assertEqual(json.loads(told.stdout)["key_id"], Path(key).stem)
        with zipfile.ZipFile(self.folder / "changed.zip", "w") as zipped:
            for name, content in members.items():
                zipped.writestr(name, content.replace(b"The wrong take", b"The right take"))
        changed = self.call("check-archive", "changed.zip", "--key", "mill.pem")
        self.assertEqual(changed.returncode, 1)
        self.assertRegex(changed.stderr, r"“changed.zip” was changed after it was made: “[^”]+” is not what its list says")
        self.assertEqual(self.call("check-archive", "quiet.wav").returncode, 2)
        self.assertEqual(self.call("check-archive", "nowhere.zip").returncode, 2)

    def test_what_a_person_reads(self):
        seen = self.call("inspect", "quiet.wav", "--spec", "audiobook-retail").stdout
        self.assertIn("•[ ] RMS level", seen)
        self.assertIn("10.0 dB too low", seen)
        self.assertIn("Does not pass.", seen)
        self.assertIn("Integrated loudness", self.call("inspect", "quiet.wav").stdout)
        said = self.call("conform", "noisy.wav", "--spec", "audiobook-retail", "--out", "n.mp3").stdout
        self.assertIn("Can't meet this specification; nothing was written.", said)
        self.assertIn("RMS level and Noise floor", said)
        done = self.call("conform", "quiet.wav", "--spec", "podcast-mono", "--out", "p.flac").stdout
        self.assertIn("Written: p.flac", done)

    def test_one_specification_is_shown_to_its_last_limit(self):
        shown = self.call("specs", "show", "podcast-mono").stdout
        self.assertIn("Podcast, mono (podcast-mono), version 3", shown)
        self.assertIn("True peak at most −1 dBTP anywhere", shown)
        self.assertIn("Encoders and converters raise peaks", shown)
        self.assertEqual(json.loads(self.call("specs", "show", "podcast-mono", "--json").stdout)["id"], "podcast-mono")
        absent = self.call("specs", "show", "nonsense")
        self.assertEqual(absent.returncode, 2)
        self.assertIn("audiobook-retail", absent.stderr)

    def test_whole_folders_are_taken_and_results_go_to_a_folder(self):
        tide = self.folder / "tide"
        (tide / "part two").mkdir(parents=True)
        (tide / ".hidden").mkdir()
        for name in ("2 flood.wav", "10 ebb.wav", "part two/11 slack.wav", ".hidden/not.wav"):
            shutil.copy(self.folder / "quiet.wav", tide / name)
        (tide / "notes.txt").write_text("nothing to measure")
        rows = json.loads(self.call("inspect", "tide", "--json").stdout)
        self.assertEqual([row["path"] for row in rows], ["tide/2 flood.wav", "tide/10 ebb.wav", "tide/part two/11 slack.wav"])
        arguments = ("tide", "--spec", "audiobook-retail")
        self.assertIn("tide/10 ebb.wav:\nLight: touch about 0", self.call("plan", *arguments).stdout)
        planned = json.loads(self.call("plan", *arguments, "--json").stdout)
        self.assertEqual([len(row["plans"]) for row in planned], [1, 1, 1])
        made = self.call("conform", *arguments, "--out", "made/")
        self.assertEqual(made.returncode, 0, made.stderr)
        written = sorted(path.name for path in (self.folder / "made").iterdir())
        self.assertEqual(written, ["10 ebb.mp3", "11 slack.mp3", "2 flood.mp3"])
        sealed = self.call("certify", "made", "--spec", "audiobook-retail", "--out", "made/papers/", "--pdf", "made/papers/")
        self.assertEqual(sealed.returncode, 0, sealed.stderr)
        self.assertEqual(len(list((self.folder / "made/papers").iterdir())), 6)
        checked = self.call("verify", "made", "--json")
        self.assertEqual(checked.returncode, 0, checked.stderr)
        self.assertEqual(len(json.loads(checked.stdout)), 6)
        (self.folder / "made/2 flood.mp3").write_bytes((self.folder / "made/10 ebb.mp3").read_bytes() + b"x")
        changed = self.call("verify", "made")
        self.assertEqual(changed.returncode, 1)
        self.assertIn("Not genuine", changed.stdout)
        (self.folder / "made/10 ebb.mp3").unlink()
        missing = self.call("verify", "made")
        self.assertEqual(missing.returncode, 1, "what is not genuine weighs more than what is missing")
        self.assertIn("There is no file “10 ebb.mp3”", missing.stderr)

    def test_results_of_several_need_a_folder_and_names_of_their_own(self):
        arguments = ("--spec", "audiobook-retail")
        one = self.call("conform", "quiet.wav", "noisy.wav", *arguments, "--out", "both.mp3")
        self.assertEqual(one.returncode, 2)
        self.assertIn("Several files need a folder to go to, and “both.mp3” is not one", one.stderr)
        (self.folder / "again").mkdir()
        shutil.copy(self.folder / "quiet.wav", self.folder / "again" / "Quiet.wav")
        twice = self.call("conform", "quiet.wav", "again/Quiet.wav", *arguments, "--out", "twice/")
        self.assertEqual(twice.returncode, 2)
        self.assertIn("would both become “Quiet.mp3”", twice.stderr)
        self.assertFalse((self.folder / "twice").exists())
        some = self.call("conform", "quiet.wav", "noisy.wav", "text.mp3", *arguments, "--out", "some/", "--json")
        self.assertEqual(some.returncode, 2, "the worst of them")
        good, bad, broken = json.loads(some.stdout)
        self.assertEqual((good["verdict"]["passes"], bad["after"]), (True, None))
        self.assertIn("text.mp3", broken["error"])
        self.assertEqual([path.name for path in (self.folder / "some").iterdir()], ["quiet.mp3"])
        (self.folder / "bare").mkdir()
        for command in (
            ("inspect", "bare"),
            ("plan", "bare", *arguments),
            ("verify", "bare"),
            ("certify", "bare", *arguments, "--out", "x/"),
        ):
            with self.subTest(command=command[0]):
                done = self.call(*command)
                self.assertEqual(done.returncode, 2)
                self.assertRegex(done.stderr, "There is no (recording|certificate|certificate of a file) in the folder “bare”")

    def test_progress_is_shown_on_a_terminal_after_a_second_and_nowhere_else(self):
        class Terminal(io.StringIO):
            def isatty(self) -> bool:
                return True

        def line(*, quiet: bool = False, after_s: float = 0.0) -> str:
            written = Terminal()
            late = mock.patch.object(progress, "AFTER_S", after_s)
            with mock.patch.object(sys, "stderr", written), late, progress.shown("tide.wav", quiet=quiet) as told:
                told("Decoding", 0.25)
                told("Measuring", 0.75)
            return written.getvalue()

        self.assertIn("tide.wav: measuring", line())
        self.assertEqual(line(quiet=True), "")
        self.assertEqual(line(after_s=60), "")
        self.assertEqual(self.start("inspect", "quiet.wav").stderr, "")

    def test_help_and_lists_load_no_meter(self):
        for words in ("'--help'", "'specs'", "'specs', 'show', 'podcast-mono'", "'inspect', '--help'"):
            done = self.python(
                f"import sys; from ispettore import cli; sys.argv = ['ispettore', {words}]\n"
                "try: cli.app()\nexcept SystemExit: pass\n"
                "print(sorted({'numpy', 'scipy', 'numba', 'soundfile', 'cryptography', 'rich'} & set(sys.modules)))"
            )
            self.assertEqual(done.splitlines()[-1], "[]", words)

    def python(self, text: str) -> str:
        return subprocess.run([sys.executable, "-c", text], capture_output=True, text=True, check=True).stdout

    def test_a_shell_completes_commands_and_specifications(self):
        def completed(words: str) -> list[str]:
            asked = {"_ISPETTORE_COMPLETE": "complete_bash", "COMP_WORDS": words, "COMP_CWORD": str(len(words.split(" ")) - 1)}
            command = [str(Path(sys.executable).parent / "ispettore")]
            done = subprocess.run(command, env={**os.environ, **asked}, capture_output=True, text=True, check=False)
            return done.stdout.split()

        self.assertIn("check-archive", completed("ispettore c"))
        self.assertEqual(completed("ispettore specs show podcast-m"), ["podcast-mono"])
        self.assertEqual(completed("ispettore inspect --spec broadcast-r"), ["broadcast-r128"])

    def test_a_specification_of_ones_own(self):
        limits = [{"quantity": "integrated_loudness_lufs", "low": -40, "high": -20}]
        (self.folder / "own-spec.json").write_text(json.dumps({"id": "own", "name": "Own", "limits": limits}))
        (self.folder / "bad-spec.json").write_text(json.dumps({"id": "own", "name": "Own", "limits": [{"quantity": "warmth"}]}))
        self.assertEqual(self.call("inspect", "quiet.wav", "--spec", "own-spec.json").returncode, 0)
        refused = self.call("inspect", "quiet.wav", "--spec", "bad-spec.json")
        self.assertEqual(refused.returncode, 2)
        self.assertIn("no quantity “warmth”", refused.stderr)

    def test_room_tone_marked_by_hand(self):
        found = self.call("inspect", "noisy.wav", "--room-tone", "11.0-11.8", "--json")
        [row] = json.loads(found.stdout)
        self.assertIn("by hand", row["notes"]["noise_floor_dbfs"])
        self.assertAlmostEqual(row["readings"]["noise_floor_dbfs"], -36, delta=0.5)
        for bad, word in (("3-2", "3-2"), ("soon", "soon"), ("40-50", "noisy.wav")):
            refused = self.call("inspect", "noisy.wav", "--room-tone", bad)
            self.assertEqual(refused.returncode, 2)
            self.assertIn(word, refused.stderr)

    def test_a_name_with_bytes_that_are_no_character_goes_all_the_way(self):
        name = os.fsdecode(b"take \xff.wav")
        plain = signals.write(self.folder / "plain.wav", signals.voice_like(8, rms_dbfs=-28, rate=RATE, room_dbfs=-75), RATE)
        plain.rename(self.folder / name)
        [row] = json.loads(self.start("inspect", name, "--json").stdout)
        self.assertEqual(row["path"], name)
        out = os.fsdecode(b"out \xff.mp3")
        done = self.start("conform", name, "--spec", "audiobook-retail", "--out", out)
        self.assertEqual((done.returncode, "take �.wav" in done.stdout or "Written" in done.stdout), (0, True), done.stderr)
        self.assertEqual(self.call("certify", out, "--spec", "audiobook-retail", "--out", "c.json").returncode, 0)
        self.assertEqual(self.call("verify", "c.json", out).returncode, 0)
        missing = self.start("verify", os.fsdecode(b"\xfe.json"), out)
        self.assertEqual(missing.returncode, 2)
        self.assertIn("There is no file", missing.stderr)

    def test_the_places_of_what_is_outside_are_told(self):
        loud = signals.voice_like(6, rms_dbfs=-20, rate=RATE)
        loud[2 * RATE] = 0.95
        signals.write(self.folder / "loud.wav", loud, RATE)
        text = self.call("inspect", "loud.wav", "--spec", "audiobook-retail").stdout
        self.assertRegex(text, r"0:02\.00  Peak: −0\.4 dBFS, 2\.6 dB over")
