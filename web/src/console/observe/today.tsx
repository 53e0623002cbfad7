import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Console } from "../../api/console";
import { today as ofToday } from "../../api/queries/observe";
import { Trouble, Waiting } from "../../kit/controls";
import { dayAndYear } from "../../kit/format";
import { Aside, Page } from "../frame";

type Item = Console["Item"];

export function Today() {
  const today = useQuery(ofToday());
  const data = today.data;
  return (
    <Page
      title="Today"
      sub={dayAndYear(new Date())}
      margin={
        data && (
          <>
            <Aside title="Yesterday">
              <p>{data.yesterday}</p>
            </Aside>
            <Aside title="What comes here">
              <p className="text-soft">
                Requests that wait, allowances about to be spent, refusals out of the ordinary, letters nobody
                got, late usage, drafts, and periods ready to charge. Each leaves by itself once it is dealt
                with.
              </p>
            </Aside>
          </>
        )
      }
    >
      <Trouble error={today.error} />
      {!data ? (
        !today.error && <Waiting words="Looking what waits" />
      ) : (
        <>
          <Items title="For you" items={data.yours} empty="Nothing waits for you." />
          {data.others.length > 0 && <Items title="For others" items={data.others} empty="" />}
        </>
      )}
    </Page>
  );
}

function Items({ title, items, empty }: { title: string; items: Item[]; empty: string }) {
  return (
    <section className="mt-6">
      <h2 className="border-b border-line pb-1">{title}</h2>
      {items.length === 0 && <p className="py-3 text-soft">{empty}</p>}
      {items.map((item) => (
        <div
          key={item.title}
          className="flex items-baseline justify-between gap-6 border-b border-line-soft py-3"
        >
          <div>
            <div className="font-semibold">{item.title}</div>
            <div className="text-soft">{item.detail}</div>
          </div>
          <Link to={item.link} className="figure-link shrink-0">
            {item.action}
          </Link>
        </div>
      ))}
    </section>
  );
}
