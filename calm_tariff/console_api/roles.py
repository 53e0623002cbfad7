"""Which role may use which route of the console's API: one table, to which the tests hold every route, and from which
`docs/roles.md` is made (`./calm roles`)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from fastapi import APIRouter
from fastapi.routing import APIRoute

from calm_tariff.console_api.base.asking import scope_of
from calm_tariff.core.scopes import PLACES
from calm_tariff.services.base.context import ROLES

EVERYBODY = frozenset(ROLES)
MANAGER = frozenset({"product manager"})
REVIEWER = frozenset({"reviewer"})
OPERATIONS = frozenset({"operations"})
FINANCE = frozenset({"finance"})
OWNERS = frozenset({"owner"})

# Every role may use what is not named here; reading is everybody's.
_NAMED: tuple[tuple[frozenset[str], str], ...] = (
    (
        MANAGER,
        """
        POST /apis
        PUT /apis/{version_id}
        POST /apis/{version_id}/groups
        POST /apis/{version_id}/operations
        POST /apis/{version_id}/operations/trying
        POST /apis/{version_id}/release-notes
        PUT /apis/{version_id}/state
        POST /documents
        DELETE /documents/{reading_id}
        POST /documents/{reading_id}/as-new
        POST /documents/{reading_id}/to/{version_id}
        POST /meters
        PUT /meters/{meter_id}
        POST /meters/{meter_id}/clone
        PUT /meters/{meter_id}/state
        DELETE /operations/{operation_id}
        PUT /operations/{operation_id}
        PUT /operations/{operation_id}/answers
        DELETE /plans/{plan_id}
        POST /plans/{plan_id}/close
        DELETE /plans/{plan_id}/draft
        PUT /plans/{plan_id}/draft
        PUT /plans/{plan_id}/groups
        PUT /plans/{plan_id}/name
        POST /plans/{plan_id}/reopen
        POST /plans/{plan_id}/withdraw
        POST /portals
        DELETE /portals/{portal_id}
        PUT /portals/{portal_id}
        DELETE /portals/{portal_id}/documentation-secret
        POST /portals/{portal_id}/documentation-secret
        PUT /portals/{portal_id}/own-site
        DELETE /portals/{portal_id}/pictures/{kind}
        PUT /portals/{portal_id}/pictures/{kind}
        DELETE /portals/{portal_id}/sign-in
        PUT /portals/{portal_id}/sign-in
        POST /products
        PUT /products/{product_id}
        POST /products/{product_id}/clone
        PUT /products/{product_id}/credentials
        PUT /products/{product_id}/order
        POST /products/{product_id}/plans
        POST /products/{product_id}/publish
        DELETE /release-notes/{note_id}
        PUT /release-notes/{note_id}
        POST /tariff/apply
        """,
    ),
    (
        MANAGER | REVIEWER,
        """
        POST /applications/{application_id}/subscriptions
        POST /consumers
        POST /consumers/{consumer_id}/answer
        POST /consumers/{consumer_id}/applications
        POST /imports
        DELETE /imports/{import_id}
        DELETE /imports/{import_id}/running
        PUT /imports/{import_id}/running
        PUT /decline-reasons
        POST /groups
        PUT /groups/{group_id}
        DELETE /portals/{portal_id}/invitations
        POST /portals/{portal_id}/invitations
        DELETE /requests/{request_id}/decision
        POST /requests/{request_id}/decision
        PUT /requests/{request_id}/hands
        POST /requests/{request_id}/messages
        POST /requests/{request_id}/question
        POST /requests/{request_id}/telling
        DELETE /subscriptions/{subscription_id}/coming-move
        GET /subscriptions/{subscription_id}/difference
        POST /subscriptions/{subscription_id}/moves
        """,
    ),
    (
        MANAGER | REVIEWER | FINANCE,
        """
        PUT /consumers/{consumer_id}/details
        """,
    ),
    (
        MANAGER | OPERATIONS,
        """
        PUT /apis/{version_id}/forwarding
        DELETE /consumers/{consumer_id}/suspension
        PUT /consumers/{consumer_id}/suspension
        POST /issuers
        PUT /issuers/{issuer_id}
        POST /jobs/{job_id}/again
        PUT /limits
        DELETE /overrides/{override_id}
        POST /subscriptions/{subscription_id}/overrides
        """,
    ),
    (
        MANAGER | REVIEWER | OPERATIONS,
        """
        POST /questions/{question_id}/hide
        POST /questions/{question_id}/let-stand
        POST /questions/{question_id}/show
        """,
    ),
    (
        MANAGER | REVIEWER | OPERATIONS | FINANCE,
        """
        POST /consumers/{consumer_id}/looking
        POST /requests/decisions
        POST /requests/summary
        """,
    ),
    (
        OPERATIONS,
        """
        POST /signing-keys
        """,
    ),
    (
        MANAGER | OWNERS,
        """
        GET /consumers/{consumer_id}/closing
        POST /consumers/{consumer_id}/closing
        GET /consumers/{consumer_id}/data.zip
        GET /consumers/{consumer_id}/merging/{into_id}
        POST /consumers/{consumer_id}/merging/{into_id}
        PUT /notice-kinds/{name}
        POST /notice-kinds/{name}/test
        """,
    ),
    (
        MANAGER | OPERATIONS | OWNERS,
        """
        POST /letters/{letter_id}/again
        """,
    ),
    (
        MANAGER | REVIEWER | OPERATIONS,
        """
        POST /applications/{application_id}/keys
        POST /keys/{key_id}/revocation
        """,
    ),
    (
        OPERATIONS | OWNERS,
        """
        POST /endpoints
        DELETE /endpoints/{endpoint_id}
        PUT /endpoints/{endpoint_id}
        POST /endpoints/{endpoint_id}/events/{event_id}/again
        POST /endpoints/{endpoint_id}/events/{event_id}/passing-over
        PUT /endpoints/{endpoint_id}/on
        POST /endpoints/{endpoint_id}/secret
        POST /endpoints/{endpoint_id}/test
        POST /endpoints/{endpoint_id}/trying
        """,
    ),
    (
        OWNERS,
        """
        GET /consumers/{consumer_id}/erasing
        POST /consumers/{consumer_id}/erasing
        GET /members/{member_id}/erasing
        POST /members/{member_id}/erasing
        DELETE /house/identity-provider
        GET /house/identity-provider
        PUT /house/identity-provider
        GET /house/invitations
        POST /house/invitations
        DELETE /house/invitations/{invitation_id}
        GET /house/people
        DELETE /house/people/{person_id}/deactivation
        PUT /house/people/{person_id}/deactivation
        PUT /house/people/{person_id}/roles
        DELETE /house/people/{person_id}/second-factor
        DELETE /house/people/{person_id}/sessions
        GET /house/people/{person_id}/sessions
        PUT /house/second-factor
        PUT /house/settings
        """,
    ),
    (
        FINANCE | OPERATIONS,
        """
        POST /usage
        POST /usage/files
        DELETE /usage/files/{usage_file_id}
        DELETE /usage/files/{usage_file_id}/recording
        PUT /usage/files/{usage_file_id}/recording
        """,
    ),
    (
        FINANCE,
        """
        POST /account-entries/{entry_id}/return
        POST /accounts/{consumer_id}/card-refunds
        POST /accounts/{consumer_id}/payments
        POST /accounts/{consumer_id}/refunds
        DELETE /adjustments/{adjustment_id}
        POST /adjustments/{adjustment_id}/agree
        POST /invoices/issue
        POST /invoices/{invoice_id}/adjustments
        POST /invoices/{invoice_id}/credit-notes
        POST /invoices/{invoice_id}/credit-notes/worked-out
        POST /invoices/{invoice_id}/payment-attempts
        POST /invoices/{invoice_id}/proposed-credit
        POST /invoices/{invoice_id}/write-off
        DELETE /invoices/{invoice_id}/held-back
        PUT /invoices/{invoice_id}/held-back
        POST /bank/entries/{bank_entry_id}/assign
        POST /bank/entries/{bank_entry_id}/leave-alone
        POST /bank/entries/{bank_entry_id}/send-back
        POST /bank/entries/{bank_entry_id}/take-back
        POST /bank/statements
        POST /books/audits
        POST /books/audits/{audit_id}/stop
        POST /journal/{month}/close
        PUT /ledger-accounts/{ledger_id}
        POST /products/{product_id}/outside-billing
        POST /products/{product_id}/outside-billing/end
        PUT /handoff/consumers/{consumer_id}
        PUT /handoff/plans/{plan_id}
        PUT /handoff/subscriptions/{subscription_id}
        POST /handoff/batches/{batch_id}/again
        POST /handoff/events/again
        POST /handoff/events/{handed_id}/again
        POST /charge-runs/{run_id}/resume
        POST /charge-runs/{run_id}/stop
        POST /bundles/{bundle_id}/stop
        POST /periods/{start}/bundles
        POST /periods/{start}/issue
        POST /periods/{start}/run
        POST /strikes
        POST /strikes/{strike_id}/undo
        DELETE /write-offs/{write_off_id}
        POST /write-offs/{write_off_id}/agree
        """,
    ),
)
MAY: Mapping[str, frozenset[str]] = {
    route.strip(): roles for roles, text in _NAMED for route in text.strip().splitlines()
}
# Somebody's own: for a person who is signed in, whatever their role, and for no service token.
OWN = frozenset(
    {
        "GET /sessions",
        "DELETE /sessions",
        "DELETE /sessions/{session_id}",
        "GET /address",
        "PUT /address",
        "PUT /password",
        "GET /second-factor",
        "POST /second-factor",
        "POST /second-factor/confirm",
        "POST /second-factor/end",
        "POST /second-factor/recovery-codes",
        "GET /notices",
        "GET /notices/unread",
        "POST /notices/read",
        "GET /notice-choices",
        "PUT /notice-choices/{group}",
        "GET /passkeys",
        "POST /passkeys",
        "POST /passkeys/begin",
        "POST /passkeys/{passkey_id}/end",
        "POST /service-tokens",
    }
)
# Who comes in here is known by something else, or by nothing yet.
OUTSIDE = frozenset({"POST /ticket-desk/events", "POST /payment-processor/events", "POST /outside-billing/events"})
# A request's route may give others a say in it (core.routes).
ALSO_WHO_MUST_AGREE = frozenset(
    f"{method} /requests/{{request_id}}/{part}"
    for method, part in (("POST", "decision"), ("DELETE", "decision"), ("POST", "telling"))
)


def may(route: str) -> frozenset[str]:
    """The roles that may use a route, told as `METHOD /path`."""
    return MAY.get(route, EVERYBODY)


def page(document: Mapping[str, Any], scopes: Mapping[str, str]) -> str:
    """The table as a page, of the API's own OpenAPI document and the scope that each route needs."""
    rows = [
        f"| `{route}` | {summary} | {' | '.join('yes' if role in may(route) else '' for role in ROLES)} "
        f"| {scopes[route]} |"
        for route, summary in _described(document)
        if route in MAY
    ]
    return _HEAD + "\n".join(rows) + "\n"


def scopes_of(routers: Iterable[APIRouter]) -> Mapping[str, str]:
    """The scope that a service token needs for each of the routers' routes, told as `METHOD /path`."""
    return {
        f"{method} {route.path}": scope_of(route.endpoint, method)
        for router in routers
        for route in router.routes
        if isinstance(route, APIRoute)
        for method in route.methods or ()
    }


def _described(document: Mapping[str, Any]) -> Iterator[tuple[str, str]]:
    for path, methods in sorted(document["paths"].items()):
        for method, operation in methods.items():
            words = str(operation.get("description", "")).split("\n\n")[0].replace("\n", " ")
            yield f"{method.upper()} {path}", words


_HEAD = f"""# Who may do what

Made of the table in `console_api.roles` by `./calm roles`; `console_api/test_roles` holds every route to it. Paths are
below `/api/v1`. What is not here, nearly all reading among it, is for every role. Whoever holds several roles may do
what any of them may. In a request whose route asks for somebody's agreement ([the desk](desk.md)), they have a say in
its decision as well.

A service token may do what its roles may, as long as its owner still has them. It can be narrowed to scopes: to read or
to change what is of one of the places {", ".join(PLACES)}; whoever may change it may read
it. What a route needs is told below, and in a refusal; `GET /me` needs none.

| route | what | {" | ".join(ROLES)} | scope |
|---|---|{"---|" * len(ROLES)}---|
"""
