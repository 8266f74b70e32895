"""What every file has in common that can be sought in and is not simply a file on this disk."""

import io


class Seekable(io.RawIOBase):
    """A file of `size` bytes that is read from where it stands; whoever makes one says how (`readinto`)."""

    def __init__(self, size: int) -> None:
        super().__init__()
        self.size, self.at = size, 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def tell(self) -> int:
        return self.at

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        self.at = max(0, offset + {io.SEEK_SET: 0, io.SEEK_CUR: self.at, io.SEEK_END: self.size}[whence])
        return self.at
