"""Settings from the environment, all named CALM_… ."""

from __future__ import annotations

from decimal import Decimal
from pathlib import Path
from typing import Literal
from urllib.parse import urlsplit

from pydantic import Field, ValidationError, ValidationInfo, field_validator
from pydantic_settings import BaseSettings, SettingsConfigDict

from calm_tariff.core.errors import Invalid
from calm_tariff.core.reach import Reach, networks

# HS256 takes no key that is shorter (RFC 7518, 3.2).
LEAST_SECRET = 32


class Settings(BaseSettings):
    """Where things are and listen. Defaults are those of `./calm demo`.

    `counters`: empty for counts in the gateway's memory, or redis://… for counts that several gateways share;
    then `counters_away` says what happens while Redis is away: when it has not answered for `counters_patience`
    seconds; and `counters_space` sets installations apart.
    `sender_seconds`, `reader_seconds`: how long a gateway waits for the next part of a caller's body, and for a
    caller to take the next part of an answer. `trusted_proxies`: addresses, with commas between; with
    `client_certificates`, their Client-Cert field names the certificate that a call was made with. With a
    `proxy_token`, gateways decide for reverse proxies; with a `signing_secret`, the token endpoint gives tokens.
    Values that calls are counted by are hashed with the `value_secret`, and what back ends are asked with is sealed
    with it: web, worker and all gateways must share it. `reaches`: the networks the product may ask, with commas
    between; without it all but this machine and its links.
    `provider_name`, `time_zone`, `currency` (ISO 4217), `tax_percent`, `mail_from` and `owner` (the first one's mail
    address) are those of a new installation, and taken at its first start alone.
    `standins` starts the stand-ins outside a demo, too; without them, letters go to `mail_host` and `mail_port`, and
    nothing is passed to a ticket desk unless one is named: it and the product sign what they say to each other with
    the `ticket_desk_secret`. Cards are charged by the `payment_processor` at an address, which is asked with its
    `payment_processor_key` and signs what it says with the `payment_processor_secret`; without one nobody pays by card.
    Usage of products that are billed elsewhere is handed on to the `outside_billing` at an address, likewise with an
    `outside_billing_key` and an `outside_billing_secret`.
    `started_again` and `ended_with` are told by whoever
    started a process again.
    """

    model_config = SettingsConfigDict(env_prefix="CALM_", hide_input_in_errors=True)

    database_url: str = "mysql+pymysql://calm@127.0.0.1:33406/calm"
    var: Path = Path("var")
    web_port: int = 8400
    gateway_port: int = 8401
    standins_port: int = 8402
    mail_port: int = 8403
    database_port: int = 33406
    demo: bool = False
    gateway_name: str = "gateway-1"
    worker_name: str = "worker"
    web_name: str = "web"
    journal_sync: bool = False
    metrics_port: int = 8404
    decisions_port: int = 8405
    counters: str = ""
    counters_away: Literal["local", "refuse"] = "local"
    counters_space: str = "calm"
    counters_patience: float = Field(default=0.5, gt=0)
    sender_seconds: float = Field(default=30, gt=0)
    reader_seconds: float = Field(default=60, gt=0)
    trusted_proxies: str = ""
    client_certificates: bool = False
    proxy_token: str = ""
    signing_secret: str = ""
    value_secret: str = ""
    web_address: str = ""
    web_hosts: str = ""
    ticket_desk: str = ""
    ticket_desk_secret: str = Field(default="", validate_default=True)
    payment_processor: str = ""
    payment_processor_key: str = ""
    payment_processor_secret: str = Field(default="", validate_default=True)
    outside_billing: str = ""
    outside_billing_key: str = ""
    outside_billing_secret: str = Field(default="", validate_default=True)
    reaches: str = ""
    standins: bool = False
    mail_host: str = "127.0.0.1"
    provider_name: str = "Your organisation"
    time_zone: str = "Europe/Lisbon"
    currency: str = "EUR"
    tax_percent: Decimal = Decimal(0)
    mail_from: str = "access@provider.example"
    owner: str = "owner@provider.example"
    started_again: int = 0
    ended_with: str = ""

    @field_validator("ticket_desk_secret")
    @classmethod
    def _proves(cls, secret: str, info: ValidationInfo) -> str:
        """A desk outside decides only with a secret that its signature can be made with."""
        if info.data.get("ticket_desk") and len(secret.encode()) < LEAST_SECRET:
            raise ValueError(
                f"must have {LEAST_SECRET} characters or more, for the desk that CALM_TICKET_DESK names signs with it"
            )
        return secret

    @field_validator("payment_processor_secret")
    @classmethod
    def _signs(cls, secret: str, info: ValidationInfo) -> str:
        """What a processor says is believed only with a secret that its signature can be made with."""
        if info.data.get("payment_processor") and len(secret.encode()) < LEAST_SECRET:
            raise ValueError(
                f"must have {LEAST_SECRET} characters or more, for what the processor that "
                "CALM_PAYMENT_PROCESSOR names says is signed with it"
            )
        return secret

    @field_validator("outside_billing_secret")
    @classmethod
    def _seals(cls, secret: str, info: ValidationInfo) -> str:
        """What is handed on, and what whoever bills outside says, is signed with a secret that is long enough."""
        if info.data.get("outside_billing") and len(secret.encode()) < LEAST_SECRET:
            raise ValueError(
                f"must have {LEAST_SECRET} characters or more, for what goes to and comes from what "
                "CALM_OUTSIDE_BILLING names is signed with it"
            )
        return secret

    @property
    def has_standins(self) -> bool:
        """Whether the outside world is simulated: anybody can tell the stand-ins anything."""
        return self.demo or self.standins

    @property
    def address(self) -> str:
        """Where people and applications reach the console, the portal and the token endpoint."""
        return self.web_address or f"http://127.0.0.1:{self.web_port}"

    @property
    def hosts(self) -> frozenset[str]:
        """The names and ports the web process answers to: its address's, this machine's own, and `web_hosts`, with
        commas between."""
        own = {urlsplit(self.address).netloc, f"127.0.0.1:{self.web_port}", f"localhost:{self.web_port}"}
        return frozenset(h.strip().lower() for h in (*own, *self.web_hosts.split(",")) if h.strip())

    @property
    def origins(self) -> frozenset[str]:
        """The origins of the pages that the web process serves under its own names (RFC 6454)."""
        scheme = urlsplit(self.address).scheme
        return frozenset(f"{scheme}://{host}" for host in self.hosts)

    @property
    def reach(self) -> Reach:
        """Where the product itself may ask; where the outside world is simulated, also this machine. Raises
        `Invalid`."""
        named = networks(word.strip() for word in self.reaches.split(",") if word.strip())
        own = {self.web_port, self.gateway_port, self.metrics_port, self.decisions_port, self.database_port}
        if not self.has_standins:
            own |= {self.standins_port, self.mail_port}
        return Reach(named=named, here=self.has_standins, own_ports=frozenset(own))

    @property
    def trusted(self) -> frozenset[str]:
        """The addresses of proxies whose word on where a call came from is taken."""
        return frozenset(filter(None, (a.strip() for a in self.trusted_proxies.split(","))))

    @property
    def ticket_desk_address(self) -> str:
        """Where requests are passed that an outside system decides; empty where there is none."""
        return self.ticket_desk or (self.standins_address if self.has_standins else "")

    @property
    def payment_processor_address(self) -> str:
        """Where cards are charged; empty where nobody pays by card."""
        return self.payment_processor or (self.standins_address if self.has_standins else "")

    @property
    def outside_billing_address(self) -> str:
        """Where usage is handed on of what is billed elsewhere; empty where nothing is."""
        return self.outside_billing or (self.standins_address if self.has_standins else "")

    @property
    def journal(self) -> Path:
        """The folder of the gateways' journals."""
        return self.var / "journal"

    @property
    def callers(self) -> Path:
        """The file that says who keeps calling in a demo."""
        return self.var / "callers.json"

    @property
    def gateway_address(self) -> str:
        """Where callers reach the gateway."""
        return f"http://127.0.0.1:{self.gateway_port}"

    @property
    def standins_address(self) -> str:
        """Where the stand-ins answer."""
        return f"http://127.0.0.1:{self.standins_port}"


class SettingInvalid(Invalid):
    """A setting that cannot be what it is set to."""


def settings_now() -> Settings:
    """The settings as the environment has them. Raises `SettingInvalid`, naming the one that is not right."""
    try:
        return Settings()
    except ValidationError as error:
        first = error.errors(include_input=False)[0]
        what, name = first["msg"].removeprefix("Value error, "), str(first["loc"][0]).upper()
        raise SettingInvalid(what, f"CALM_{name}") from None
