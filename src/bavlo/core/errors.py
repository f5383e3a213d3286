"""The errors that Bavlo raises, in the user's words: where, what is wrong, what to do."""


class BavloError(Exception):
    """Something that the user can mend.

    Parameters
    ----------
    where
        The file, option or region that is concerned; may be empty.
    what
        What is wrong, without a full stop.
    remedy
        What to do about it; may be empty.
    """

    exit_code = 1

    def __init__(self, where: object, what: str, remedy: str = "") -> None:
        self.where = str(where)
        self.what = what
        self.remedy = remedy
        super().__init__(where, what, remedy)

    def __str__(self) -> str:
        head = f"{self.where}: {self.what}" if self.where else self.what
        return f"{head}; {self.remedy}" if self.remedy else head


class InputError(BavloError):
    """A file cannot be read, or what is in it cannot be used."""


class OutputError(BavloError):
    """An output cannot be written where it was asked for."""


class RequestError(BavloError):
    """The request itself makes no sense, whatever the files hold."""

    exit_code = 2
