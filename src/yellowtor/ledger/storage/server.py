"""Where a shared ledger is: the URL of its server."""

from sqlalchemy.engine import URL

from yellowtor.database_url import DatabaseUrl
from yellowtor.errors import BadJob


class Server(DatabaseUrl):
    """Where a shared ledger is."""

    __slots__ = ()

    def full_url(self) -> URL:
        """The URL with its password and driver. Raises BadJob."""
        url = self.read()
        if url is None:
            raise BadJob(
                f"ledger = {self.as_written()!r} is not the URL of a database, such as postgresql://user@host/name. "
                "Nothing was sent."
            )
        if url.get_backend_name() != "postgresql":
            raise BadJob(
                f"ledger = {self}: a ledger is a file, or a PostgreSQL: postgresql://user@host/name. Nothing was sent."
            )
        return url.set(drivername="postgresql+psycopg")
