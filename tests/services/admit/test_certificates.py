"""A client certificate is a credential of one application, from when until when it says itself."""

from __future__ import annotations

from datetime import timedelta

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.services.admit import applications, certificates, credentials
from calm_tariff.services.serve.gateway_feed import read_feed
from calm_tariff.store.base.jobs import Job
from tests.certified import certificate, pem
from tests.office import START, Office


def test_a_certificate_is_brought_shown_told_to_gateways_and_revoked(office: Office) -> None:
    one, other = office.consumers
    own, made = office.acting(one), certificate("bridge")
    key = certificates.bring(own, one.application, "", "live", pem(made))
    assert (key.kind, key.label, key.state, key.starts_at) == ("certificate", "CN=bridge", "active", None)
    assert key.expires_at == made.not_valid_after_utc
    (known,) = [c for c in read_feed(office.ctx).credentials if c.kind == "certificate"]
    assert (known.application_id, known.key_hash[:16]) == (one.application, key.prefix)
    with office.ctx.transaction() as session:
        assert session.scalars(select(Job).where(Job.kind == credentials.TELL_OF_END)).one()  # a week before it ends
    with pytest.raises(Conflict, match="bring the next one"):
        credentials.rotate_key(own, key.id, 24)
    for ctx, application in ((own, one.application), (office.acting(other), other.application)):
        with pytest.raises(Invalid, match="cannot be taken; bring another") as refused:
            certificates.bring(ctx, application, "mine", "live", pem(made))
        assert "Ferries" not in str(refused.value)
    with pytest.raises(NotFound):
        certificates.bring(office.acting(other), one.application, "", "live", pem(certificate()))
    assert credentials.revoke_key(own, key.id).state == "revoked"
    with pytest.raises(Invalid):
        certificates.bring(own, one.application, "again", "live", pem(made))


def test_it_is_good_when_it_says_itself(office: Office) -> None:
    one = office.consumers[0]
    own = office.acting(one)
    later = certificate(begins=START + timedelta(days=3))
    assert certificates.bring(own, one.application, "", "live", pem(later)).starts_at == START + timedelta(days=3)
    with pytest.raises(Invalid, match="has ended"):
        certificates.bring(own, one.application, "", "live", pem(certificate(begins=START - timedelta(9), days=9)))
    with pytest.raises(Conflict):
        certificates.bring(own, one.application, credentials.PASSING, "live", pem(certificate()))
    applications.register(own, "Trial", environment="sandbox")
    (trial,) = [a for a in applications.own(own) if a.name == "Trial"]
    with pytest.raises(Invalid, match="sandbox alone"):
        certificates.bring(own, trial.id, "", "live", pem(certificate()))
    assert certificates.bring(own, trial.id, "", "sandbox", pem(certificate())).environment == "sandbox"
