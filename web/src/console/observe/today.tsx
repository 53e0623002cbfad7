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
          {data.first_steps.length > 0 && <FirstSteps of={data.first_steps} />}
          <Items title="For you" items={data.yours} empty="Nothing waits for you." />
          {data.others.length > 0 && <Items title="For others" items={data.others} empty="" />}
        </>
      )}
    </Page>
  );
}

/** What stands between a new installation and its first served call. */
function FirstSteps({ of }: { of: Console["FirstStep"][] }) {
  return (
    <section aria-label="First steps" className="mt-6 max-w-[760px]">
      <h2 className="border-b border-line pb-1">From here to the first served call</h2>
      <ol>
        {of.map((step, at) => (
          <li
            key={step.title}
            aria-current={step.next ? "step" : undefined}
            className="grid grid-cols-[28px_1fr_auto] items-baseline border-b border-line-soft py-2.5"
          >
            <span className={step.done ? "text-kelp" : "text-soft"}>
              {step.done ? "✓" : at + 1}
              {step.done && <span className="sr-only"> done</span>}
            </span>
            <div>
              <div className={step.next ? "font-semibold" : step.done ? "text-soft" : ""}>{step.title}</div>
              {!step.done && <div className="text-[13px] text-soft">{step.detail}</div>}
            </div>
            {step.next && <StepLink to={step.link}>{step.action}</StepLink>}
          </li>
        ))}
      </ol>
    </section>
  );
}

/** The portal is another application than the console. */
function StepLink({ to, children }: { to: string; children: string }) {
  if (to.startsWith("/"))
    return (
      <Link to={to} className="figure-link shrink-0">
        {children}
      </Link>
    );
  return (
    <a href={to} className="figure-link shrink-0">
      {children}
    </a>
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
