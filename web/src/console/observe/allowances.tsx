import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import { api } from "../../api/console";
import { counts as ofCounts } from "../../api/queries/observe";
import { plural } from "../../kit/format";
import { AllowanceGauge } from "../../kit/gauge";
import { Listing } from "../../kit/list";
import { Aside, Page, Pair } from "../frame";
import { useList } from "../list";

/** Every quota, who is near the end, and when. */
export function Allowances() {
  const navigate = useNavigate();
  const list = useList("/allowances", (query) => api.get("/allowances", { params: { query } }), {
    every: 3_000,
  });
  const counts = useQuery({ ...ofCounts(), refetchInterval: false });
  const ahead = list.rows.filter((g) => g.percent < 100 && g.spent_at).length;
  return (
    <Page
      title="Allowances"
      sub="Every quota, the fullest first. A hairline is where the window's end is projected; a mark is the allowance, where more is used or expected."
      margin={
        <>
          <Aside title="How they stand">
            <Pair name="80% or more used">{plural(counts.data?.near_the_end ?? 0, "allowance")}</Pair>
            <Pair name="of those shown, spent before the window ends">{plural(ahead, "allowance")}</Pair>
          </Aside>
          <Aside title="How the end is projected">
            <p className="text-soft">
              Each hour still to come is expected to be like the mean of the same hour of the week over the
              last four weeks. With under a week of history, the use so far simply goes on.
            </p>
          </Aside>
        </>
      }
    >
      <Listing
        list={list}
        id={(g) => `${g.subscription_id} ${g.name}`}
        words="Consumer named"
        reading="Reading the allowances"
        empty="No subscription here has an allowance."
        open={(g) => navigate(`/admit/consumers/${g.consumer_id}`)}
        columns={[
          {
            head: "Consumer",
            look: "whitespace-nowrap",
            cell: (g) => (
              <>
                <Link className="figure-link" to={`/admit/consumers/${g.consumer_id}`}>
                  {g.consumer}
                </Link>
                <div className="text-[13px] text-soft">{g.application}</div>
              </>
            ),
          },
          {
            head: "Plan",
            cell: (g) => (
              <>
                {g.product} · {g.plan}
                <div className="text-[13px] text-soft">
                  {g.name}: {g.sentence}
                </div>
              </>
            ),
          },
          { head: "Allowance", width: "w-[42%]", cell: (g) => <AllowanceGauge of={g} /> },
        ]}
      />
    </Page>
  );
}
