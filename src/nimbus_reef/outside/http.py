"""A marketplace over HTTP: tokens, time limits, tries that wait longer each time, and keys that make a try harmless."""

from __future__ import annotations

import threading
from collections.abc import Mapping, Sequence
from datetime import date
from pathlib import Path
from typing import Any, Final

import httpx
from tenacity import RetryCallState, Retrying, retry_if_exception_type, stop_after_attempt, stop_after_delay
from tenacity.wait import wait_random_exponential

from nimbus_reef.errors import MarketplaceAway, MarketplaceRefused
from nimbus_reef.outside.protocol import (
    MarketAccountDays,
    ReportFile,
    ReportState,
    Results,
    RowResult,
    RowState,
    SheetRow,
)

TIMEOUT: Final = httpx.Timeout(30.0, connect=5.0)
_TRIES, _SECONDS = 8, 60.0
_LONGEST_WAIT: Final = 10.0
_PIECE: Final = 1_000
_SENT_COLUMNS: Final = (
    *("row", "action", "entity", "campaign", "ad_group", "target", "match_type", "sku", "placement", "days"),
    *("from_hour", "to_hour", "field", "old_value", "new_value"),
)


class _TryAgain(Exception):
    """An answer that may be another soon. after: seconds that it asks to wait."""

    def __init__(self, text: str, after: float = 0.0) -> None:
        super().__init__(text)
        self.after = after


_backoff = wait_random_exponential(multiplier=0.25, max=_LONGEST_WAIT)


def _wait(state: RetryCallState) -> float:
    """Longer each time with some chance in it, and never less than was asked for."""
    problem = state.outcome.exception() if state.outcome else None
    asked = min(problem.after, _SECONDS) if isinstance(problem, _TryAgain) else 0.0
    return max(float(_backoff(state)), asked)


class HttpMarketplace:
    """A marketplace's account over HTTP; safe to share between threads."""

    def __init__(
        self,
        url: str,
        client_id: str,
        secret: str,
        *,
        timeout: httpx.Timeout = TIMEOUT,
        tries: int = _TRIES,
        seconds: float = _SECONDS,
    ) -> None:
        self._client = httpx.Client(base_url=url, timeout=timeout, trust_env=False)
        self._sign_in = {"client_id": client_id, "client_secret": secret}
        self._token = ""
        self._lock = threading.Lock()
        self._tries, self._seconds = tries, seconds

    def close(self) -> None:
        """Lets its connections go."""
        self._client.close()

    def account(self) -> MarketAccountDays:
        """See `Marketplace`."""
        told = self._ask("GET", "/v1/account").json()
        first, today = (date.fromisoformat(told[name]) for name in ("first_day", "today"))
        return MarketAccountDays(
            told["account"], first, today, told["maturing_days"], tuple(told["kinds"]), bool(told.get("simulated"))
        )

    def send(self, rows: Sequence[SheetRow], key: str) -> Results:
        """See `Marketplace`."""
        asked = {"rows": [_sent(each) for each in rows]}
        return _results(self._ask("POST", "/v1/change-sets", asked, key=key).json())

    def results(self, receipt: str) -> Results:
        """See `Marketplace`."""
        return _results(self._ask("GET", f"/v1/change-sets/{receipt}").json())

    def held(self, rows: Sequence[SheetRow]) -> dict[int, str | None]:
        """See `Marketplace`."""
        found: dict[int, str | None] = {}
        for begun in range(0, len(rows), _PIECE):
            asked = {"rows": [_sent(each) for each in rows[begun : begun + _PIECE]]}
            told = self._ask("POST", "/v1/held", asked).json()
            found |= {int(each["row"]): each["value"] for each in told["rows"]}
        return found

    def request(self, kind: str, first: date, last: date, key: str) -> str:
        """See `Marketplace`."""
        asked = {"kind": kind, "from": first.isoformat(), "to": last.isoformat()}
        return str(self._ask("POST", "/v1/reports", asked, key=key).json()["id"])

    def report_state(self, handle: str) -> ReportState:
        """See `Marketplace`."""
        state = self._ask("GET", f"/v1/reports/{handle}").json()["state"]
        return {"ready": ReportState.READY, "gone": ReportState.GONE}.get(state, ReportState.WAITING)

    def report(self, handle: str, path: Path) -> ReportFile:
        """See `Marketplace`."""
        answer = self._ask("GET", f"/v1/reports/{handle}/file")
        path.write_bytes(answer.content)
        return ReportFile(path, date.fromisoformat(answer.headers["X-As-Of"]))

    def changes_since(self, moment: str) -> list[Mapping[str, str]]:
        """See `Marketplace`."""
        found: list[Mapping[str, str]] = self._ask("GET", "/v1/changes", query={"since": moment}).json()["changes"]
        return found

    def pass_days(self, days: int) -> date:
        """See `Marketplace`."""
        # Without a key: it is asked for by hand, and a second try would let as many pass again.
        told = self._once("POST", "/v1/world/days", {"days": days}).json()
        return date.fromisoformat(told["today"])

    def _ask(
        self,
        method: str,
        path: str,
        body: Mapping[str, Any] | None = None,
        *,
        key: str = "",
        query: Mapping[str, str] | None = None,
    ) -> httpx.Response:
        """Asks until there is an answer, for about a minute."""
        tries = Retrying(
            stop=stop_after_attempt(self._tries) | stop_after_delay(self._seconds),
            wait=_wait,
            retry=retry_if_exception_type((_TryAgain, httpx.TransportError)),
            reraise=True,
        )
        try:
            return tries(self._try, method, path, body, key, query)
        except (_TryAgain, httpx.TransportError) as problem:
            raise _away(problem) from problem

    def _once(self, method: str, path: str, body: Mapping[str, Any]) -> httpx.Response:
        try:
            return self._try(method, path, body)
        except (_TryAgain, httpx.TransportError) as problem:
            raise _away(problem) from problem

    def _try(
        self,
        method: str,
        path: str,
        body: Mapping[str, Any] | None = None,
        key: str = "",
        query: Mapping[str, str] | None = None,
    ) -> httpx.Response:
        token = self._signed_in()
        headers = {"Authorization": f"Bearer {token}"} | ({"Idempotency-Key": key} if key else {})
        answer = self._client.request(method, path, json=body, headers=headers, params=query)
        if answer.status_code == httpx.codes.UNAUTHORIZED:
            with self._lock:
                if self._token == token:
                    self._token = ""
            raise _TryAgain("The token was too old.")
        _checked(answer)
        return answer

    def _signed_in(self) -> str:
        with self._lock:
            if not self._token:
                answer = self._client.post("/v1/token", json=self._sign_in)
                if answer.status_code == httpx.codes.UNAUTHORIZED:
                    raise MarketplaceRefused(
                        "The marketplace does not know this client or its secret.",
                        remedy="Check both under Accounts, Marketplace.",
                    )
                _checked(answer)
                self._token = str(answer.json()["access_token"])
            return self._token


def _checked(answer: httpx.Response) -> None:
    """Raises where it says no: to try again soon, or for good."""
    if answer.is_success:
        return
    if answer.status_code == httpx.codes.TOO_MANY_REQUESTS or answer.is_server_error:
        asked = answer.headers.get("Retry-After", "")
        raise _TryAgain(_message(answer), float(asked) if asked.isdecimal() else 0.0)
    raise MarketplaceRefused(_message(answer))


def _message(answer: httpx.Response) -> str:
    try:
        return str(answer.json()["message"])
    except (ValueError, KeyError, TypeError):
        return f"The marketplace answered {answer.status_code}."


def _away(problem: Exception) -> MarketplaceAway:
    text = str(problem) or type(problem).__name__
    return MarketplaceAway(f"The marketplace does not answer: {text}", remedy="It is tried again by itself.")


def _sent(row: SheetRow) -> dict[str, str]:
    return {name: str(row.get(name, "")) for name in _SENT_COLUMNS if row.get(name, "") != ""}


def _results(told: Mapping[str, Any]) -> Results:
    rows = tuple(
        RowResult(int(each["row"]), RowState(each["status"]), each["code"], each["message"]) for each in told["rows"]
    )
    return Results(str(told["id"]), told["state"] == "done", date.fromisoformat(told["as_of"]), rows)
