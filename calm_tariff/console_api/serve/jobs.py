"""Jobs that failed, and having one tried again."""

from __future__ import annotations

from fastapi import APIRouter
from fastapi.responses import Response

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.services.base import jobs
from calm_tariff.services.base.jobs import JobView
from calm_tariff.store.base.paging import Page

router = APIRouter(tags=["observe"], route_class=Again)


@router.get("/jobs")
def list_jobs(ctx: Asking, asked: Paged) -> Page[JobView]:
    """Jobs that failed: those given up, and those that are tried again. Order: run."""
    return jobs.troubled(ctx, asked)


@router.get("/jobs.csv", response_class=Response)
def export_jobs(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    return as_csv("jobs", JobView, all_of(lambda part: jobs.troubled(ctx, part), asked))


@router.post("/jobs/{job_id}/again")
def try_again(ctx: Asking, job_id: int) -> JobView:
    """Have a job that failed tried again at once."""
    return jobs.try_again(ctx, job_id)
