"""What can go wrong in the application itself, as sentences for a person."""

from ispettore.core.errors import IspettoreError


class NotFound(IspettoreError):
    """There is no such {what} here. It may have been removed; go back and look again."""

    what: str


class NameMissing(IspettoreError):
    """A production needs a name. Write one, then try again."""


class ReasonMissing(IspettoreError):
    """A finding is accepted with a reason, which the report shows. Write one, then accept it."""


class EndingWithoutReason(IspettoreError):
    """The certificate of “{file}” is withdrawn or issued again with a reason, which whoever checks it is told. Write one, then try
    again."""

    file: str


class CertificateEnded(IspettoreError):
    """The certificate of “{file}” was {ending} before. Look at the list again; nothing was changed."""

    file: str
    ending: str


class CertificateTooOld(IspettoreError):
    """The certificate of “{file}” is of an earlier form, which can't be issued again as it is. It stays genuine; make the file
    again for a new one."""

    file: str


class NotCertified(IspettoreError):
    """“{production}” is not certified: {reason} Nothing was issued."""

    production: str
    reason: str


class NoDesk(IspettoreError):
    """There is no intake desk to hand “{production}” to. Name its address in ISPETTORE_DESK, then start again."""

    production: str


class DeskAway(IspettoreError):
    """The intake desk can't be reached: {reason} (tried {tries} times). Nothing was lost; hand the package in again later."""

    reason: str
    tries: int


class DeskRefused(IspettoreError):
    """The intake desk refused the package: {reason} Nothing was handed in."""

    reason: str


class NotReady(IspettoreError):
    """“{file}” {reason}. Wait until that is done, then try again."""

    file: str
    reason: str


class TurnsRefused(IspettoreError):
    """These passages of “{file}” can't be kept: they have to follow one another without gaps from its start to its end. Look at
    them again, then correct what is wrong."""

    file: str


class NothingToMatch(IspettoreError):
    """The voices of “{file}” are alike already: less than 0.3 dB apart, and in tone less than 1 dB. Nothing was changed."""

    file: str


class NoFile(IspettoreError):
    """This version of “{file}” brought no file. Choose another, or conform it again."""

    file: str


class FileCleared(IspettoreError):
    """“{file}” was cleared away to save room. What it read and what made it are kept; conform again in the same way to have it
    anew."""

    file: str


class FormatRefused(IspettoreError):
    """{format} does not meet what {specification} asks of the file. Choose one of the formats that are offered, or change the
    specification."""

    format: str
    specification: str


class NamingRefused(IspettoreError):
    """The names of the files can't be used. {reason} Nothing was delivered."""

    reason: str


class FolderTaken(IspettoreError):
    """There is something else at {folder} already. Nothing was written over; move it away, or write to a folder once more."""

    folder: str


class ArchiveConflicts(IspettoreError):
    """“{file}” was not imported: the {what} “{name}”, version {version}, says something else here than in it. Nothing was changed;
    import it where no {what} of that name was written."""

    file: str
    what: str
    name: str
    version: int


class NothingMade(IspettoreError):
    """No file of “{production}” is ready to be handed over. Make the files first, then try again."""

    production: str


class OrderChanged(IspettoreError):
    """The recordings of “{production}” changed while they were put in order. Look at the sheet again, then move what is to move."""

    production: str


class BuiltIn(IspettoreError):
    """“{name}” ships with Ispettore and stays as it is, so that its name means the same everywhere.
    Copy it, and change the copy."""

    name: str


class SpecificationRefused(IspettoreError):
    """The specification “{name}” can't be kept. {reason}"""

    name: str
    reason: str


class TreatmentRefused(IspettoreError):
    """The treatment can't be saved. {reason}"""

    reason: str


class DraftChanged(IspettoreError):
    """The treatment of “{file}” was changed in another window. It is shown as it is now; make your change again."""

    file: str


class DraftTooLong(IspettoreError):
    """The treatment of “{file}” would have {count} steps; {most} is the most. Remove some first."""

    file: str
    count: int
    most: int


class NothingToUndo(IspettoreError):
    """There is nothing to {what} in the treatment of “{file}”."""

    what: str
    file: str


class VersionChanged(IspettoreError):
    """“{name}” was changed elsewhere meanwhile and is at version {version} now. Nothing of yours was kept; look at the new version,
    then make your change again."""

    name: str
    version: int


class UploadCutShort(IspettoreError):
    """“{file}” did not come in whole: {reason}. Bring it in again."""

    file: str
    reason: str


class NameTooLong(IspettoreError):
    """The name “{start}…” is {length} bytes long; 255 is the most that every system can keep. Give the file a shorter one."""

    start: str
    length: int


class NameUnreadable(IspettoreError):
    """The file's name could not be read. Rename the file and add it again."""


class NoLongerReplaceable(IspettoreError):
    """“{file}” has been removed or replaced meanwhile. Look at the sheet again, then replace what stands there now."""

    file: str


class NoSuchSpan(IspettoreError):
    """This span can't be read: it has to lie inside the recording and be at most {longest_min:.0f} minutes long. Select less."""

    longest_min: float


class GivenUp(IspettoreError):
    """Gave up: the worker was stopped each time it tried. Try again, or report it."""


class Unexpected(IspettoreError):
    """Something went wrong that should not have; the log has the details. Try again."""
