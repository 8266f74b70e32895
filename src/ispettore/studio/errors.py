"""What can go wrong in the application itself, as sentences for a person."""

from ispettore.core.errors import IspettoreError


class NotFound(IspettoreError):
    """This {what} was not found. It may have been removed; go back and reload."""

    what: str


class AlreadyErased(IspettoreError):
    """“{name}” was erased and can't be restored. Bring its files in again, or import its archive."""

    name: str


class NotRemoved(IspettoreError):
    """“{name}” was restored meanwhile. It was not erased; reload the list."""

    name: str


class NotFailed(IspettoreError):
    """This work did not fail, or was asked for again already. Nothing was changed; reload the list."""


class NameMissing(IspettoreError):
    """Enter a name for the {what}."""

    what: str


class ReasonMissing(IspettoreError):
    """Enter a reason for accepting this finding; it appears in the report."""


class EndingWithoutReason(IspettoreError):
    """Enter a reason for withdrawing or re-issuing the certificate of “{file}”; whoever checks it is told."""

    file: str


class CertificateEnded(IspettoreError):
    """The certificate of “{file}” was already {ending}. Nothing was changed; reload the list."""

    file: str
    ending: str


class CertificateTooOld(IspettoreError):
    """The certificate of “{file}” has an earlier form, which can't be issued again. It stays genuine; make the file again for a new
    one."""

    file: str


class NotCertified(IspettoreError):
    """“{production}” is not certified: {reason} Nothing was issued."""

    production: str
    reason: str


class NoDesk(IspettoreError):
    """No intake desk is set up to hand “{production}” in to. Set its address in ISPETTORE_DESK, then restart."""

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


class RoomTonePutIn(IspettoreError):
    """That stretch of “{file}” was put in by an edit. Choose room tone that was recorded."""

    file: str


class TurnsRefused(IspettoreError):
    """These passages of “{file}” can't be saved: they have to follow each other without gaps from start to end. Correct them, then
    try again."""

    file: str


class NothingToMatch(IspettoreError):
    """The voices of “{file}” already match: less than 0.3 dB apart, and in tone less than 1 dB. Nothing was changed."""

    file: str


class NoFile(IspettoreError):
    """This version of “{file}” has no file. Choose another, or conform it again."""

    file: str


class FileCleared(IspettoreError):
    """“{file}” was cleared to save disk space. Its readings and steps are kept; conform again in the same way to make it again."""

    file: str


class FormatRefused(IspettoreError):
    """{specification} does not allow {format}. Choose one of the formats offered, or change the specification."""

    format: str
    specification: str


class NamingRefused(IspettoreError):
    """The names of the files can't be used. {reason} Nothing was delivered."""

    reason: str


class FolderTaken(IspettoreError):
    """There is already something else at {folder}. Nothing was overwritten; move it, or write to a folder again."""

    folder: str


class ArchiveConflicts(IspettoreError):
    """“{file}” was not imported: the {what} “{name}”, version {version}, is different here. Nothing was changed; import it on an
    installation that has no {what} of that name."""

    file: str
    what: str
    name: str
    version: int


class NothingMade(IspettoreError):
    """No file of “{production}” is ready to deliver. Make the files first, then try again."""

    production: str


class OrderChanged(IspettoreError):
    """The list of recordings in “{production}” changed. Check it and reorder again."""

    production: str


class BuiltIn(IspettoreError):
    """“{name}” is built in and can't be edited. Copy it to make changes."""

    name: str


class SpecificationRefused(IspettoreError):
    """The specification “{name}” can't be saved. {reason}"""

    name: str
    reason: str


class TreatmentRefused(IspettoreError):
    """The treatment can't be saved. {reason}"""

    reason: str


class DraftChanged(IspettoreError):
    """The treatment of “{file}” was changed in another window. The latest version is shown; make your change again."""

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


class EditsChanged(IspettoreError):
    """“{file}” was edited in another window. Its edits as they are now are shown; make your change again."""

    file: str


class BedChanged(IspettoreError):
    """The bed under “{file}” was changed in another window. It is shown as it is now; make your change again."""

    file: str


class BedUnusable(IspettoreError):
    """The bed can't be laid so, and stays as it was. {reason}"""

    reason: str


class BedSoundUnknown(IspettoreError):
    """The bed under “{file}” names a sound that is not in this production. Reload the page, and lay one that is listed there."""

    file: str


class BedSoundInUse(IspettoreError):
    """“{name}” lies under {count} recordings or their production. Take it out of their beds first."""

    name: str
    count: int


class NoEditToUndo(IspettoreError):
    """There is nothing to {what} in the edits of “{file}”."""

    what: str
    file: str


class NothingToEdit(IspettoreError):
    """“{file}” is like that already: nothing was changed."""

    file: str


class MadeOfOtherEdits(IspettoreError):
    """This version of “{file}” was made before its edits changed, so it can't be the one that counts. Undo the edits, or conform it
    again."""

    file: str


class TakeWithoutPlace(IspettoreError):
    """What “{file}” was to replace was cut out meanwhile. Undo that, or bring the retake in for another place."""

    file: str


class NobodySpeaks(IspettoreError):
    """Nobody speaks in “{file}”, so it has neither head nor tail. Nothing was changed."""

    file: str


class ChapterOutside(IspettoreError):
    """“{file}” is {length} long; a chapter mark has to stand before its end. Nothing was changed."""

    file: str
    length: str


class TooManyChapters(IspettoreError):
    """“{file}” has {most} chapter marks, and can have no more. Remove one first, or split the recording."""

    file: str
    most: int


class NothingToJoin(IspettoreError):
    """“{file}” is the last recording of its production: there is none to join to it."""

    file: str


class NotAlike(IspettoreError):
    """“{file}” can't be joined to “{other}”: their sample rates or channels differ. Export one as the other and replace it
    first."""

    file: str
    other: str


class FileBreaksOff(IspettoreError):
    """“{file}” breaks off before its end, so it can't be edited. Export it afresh and replace it with the newer file first."""

    file: str


class VersionChanged(IspettoreError):
    """“{name}” was changed by someone else and is now at version {version}. Your changes were not saved; look at the new version,
    then make them again."""

    name: str
    version: int


class UploadCutShort(IspettoreError):
    """“{file}” was not uploaded completely: {reason}. Add it again."""

    file: str
    reason: str


class NameTooLong(IspettoreError):
    """The name “{start}…” is {length} bytes long; 255 is the most that every system can keep. Give the file a shorter one."""

    start: str
    length: int


class NameUnreadable(IspettoreError):
    """The file's name could not be read. Rename the file and add it again."""


class NoLongerReplaceable(IspettoreError):
    """“{file}” has been removed or replaced in the meantime. Reload the sheet, then replace the current file."""

    file: str


class NoSuchSpan(IspettoreError):
    """This selection can't be measured: it has to be inside the recording and at most {longest_min:.0f} minutes long. Select
    less."""

    longest_min: float


class GivenUp(IspettoreError):
    """Stopped after several interrupted attempts. Try again, or report it."""


class Unexpected(IspettoreError):
    """Something went wrong; the log has the details. Try again."""
