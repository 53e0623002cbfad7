import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { api, type Console } from "../../../api/console";
import { books } from "../../../api/queries/settle";
import { count, month } from "../../../kit/format";
import { Listing } from "../../../kit/list";
import { Aside, Page } from "../../frame";
import { useOpened } from "../../lately";
import { useList } from "../../list";
import { callsLink } from "../links";
import { Whose } from "../whose";

type Row = Console["UnitsRow"];

const WHERE = ["charged", "nothing_due", "free", "running", "late", "outside"] as const;
const HEADS = {
  charged: "Charged",
  nothing_due: "Nothing due",
  free: "Free",
  running: "To charge",
  late: "Late",
  outside: "Billed outside",
};

/** Where the units of a period are, by subscription and meter. */
export function BooksUnits() {
  const { start = "" } = useParams();
  const span = useQuery(books()).data?.periods.find((p) => p.start === start);
  useOpened(`Units of ${month(start)}`);
  const list = useList(
    "/books/{start}/units",
    (query) => api.get("/books/{start}/units", { params: { path: { start }, query } }),
    { fill: { start } },
  );
  const used = WHERE.filter((name) => list.rows.some((r) => Number(r[name]) !== 0));
  return (
    <Page
      title={`Units of ${month(start)}`}
      sub="What calls come to is on documents, or on none for a reason; those that do not agree come first."
      margin={
        <Aside title="Where units are">
          <p className="text-soft">
            <b className="font-medium">Charged</b> units are on documents, those to charge on none yet.{" "}
            <b className="font-medium">Free</b> are those of trials and those without a price.{" "}
            <b className="font-medium">Late</b> ones came after the month was charged and wait for the next
            invoice; below 0, fewer are recorded now than were charged. Those{" "}
            <b className="font-medium">billed outside</b> are handed on hour by hour.
          </p>
        </Aside>
      }
    >
      <Listing
        list={list}
        id={(r) => `${r.subscription_id} ${r.meter_id}`}
        words="Consumer named"
        reading="Reading the sums"
        empty="No units were counted in this month."
        columns={[
          {
            head: "Subscription",
            width: "w-[38%]",
            sort: "consumer",
            cell: (r) => <Whose of={r} />,
          },
          { head: "Meter", cell: (r) => r.meter, look: "whitespace-nowrap" },
          { head: "Calls say", number: true, cell: (r) => <Recorded of={r} span={span} /> },
          ...used.map((name) => ({
            head: HEADS[name],
            number: true,
            cell: (r: Row) => Number(r[name]) !== 0 && <Placed of={r} name={name} start={start} />,
          })),
          {
            head: "Agree",
            quiet: true,
            cell: (r) => !r.agrees && <span className="text-madder">differ</span>,
          },
        ]}
      />
    </Page>
  );
}

function Placed({ of: r, name, start }: { of: Row; name: (typeof WHERE)[number]; start: string }) {
  if (name === "outside")
    return (
      <Link
        className="figure-link"
        to={`/settle/handoff/sums/${start}?words=${encodeURIComponent(r.consumer)}`}
      >
        {count(r[name])}
      </Link>
    );
  if (name === "free") return <>{count(r[name])}</>;
  const words = new URLSearchParams({ show: "everybody", words: r.consumer });
  return (
    <Link className="figure-link" to={`/settle/periods/${start}?${words}`}>
      {count(r[name])}
    </Link>
  );
}

function Recorded({ of: r, span }: { of: Row; span?: { since_us: number; until_us: number } }) {
  if (r.recorded === null) return <span className="text-soft">not kept</span>;
  if (!span || !r.subscription_id) return <>{count(r.recorded)}</>;
  return (
    <Link className="figure-link" to={callsLink(r.subscription_id, r.meter_id, span)}>
      {count(r.recorded)}
    </Link>
  );
}
