"""The job queue on the same database."""

from __future__ import annotations

from procrastinate import App, PsycopgConnector

from pelvrak.server.db.session import database_url

queue = App(connector=PsycopgConnector(conninfo=database_url()), import_paths=["pelvrak.server.jobs.tasks"])
