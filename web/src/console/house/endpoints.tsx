import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import type { Console } from "../../api/console";
import { endpoints, me } from "../../api/queries/house";
import { Button, Trouble, Waiting } from "../../kit/controls";
import { count, dayAndMinute } from "../../kit/format";
import { Table } from "../../kit/table";
import { Aside, Page } from "../frame";
import { isOne } from "../roles";
import { MakeEndpoint } from "./endpoint-form";
import { heard } from "./event-choice";

type Endpoint = Console["EndpointView"];

/** Who changes endpoints. */
export const CHANGERS = ["operations", "owner"] as const;

/** How an endpoint stands, in words. */
export function standing(of: Endpoint): string {
  const waits = of.waiting > 0 ? `${count(of.waiting)} ${of.waiting === 1 ? "waits" : "wait"}` : "";
  if (!of.on) return ["off", of.off_why, waits].filter(Boolean).join("; ");
  if (of.gave_up) return `given up after ${count(of.tries)} tries; ${waits}`;
  if (of.trouble) return `${waits}, tried ${of.tries === 1 ? "once" : `${count(of.tries)} times`}`;
  if (waits) return `${waits}, on their way`;
  return of.told_at ? `told all, last ${dayAndMinute(of.told_at)}` : "nothing to tell yet";
}

/** Where the provider's own systems and rooms hear what happens. */
export function Endpoints() {
  const list = useQuery(endpoints());
  const may = isOne(useQuery(me()).data?.roles, CHANGERS);
  const [making, setMaking] = useState(false);
  return (
    <Page
      title="Hooks"
      sub="Where your own systems and rooms hear what happens here: each in the order in which it did."
      margin={
        <Aside title="What is told, and how">
          <p>
            Whatever is on the record, and allowances that run out. A system gets it as a signed webhook and
            can check that it is ours; a chat room gets a line. One that does not take it is tried again for a
            day and a half, with longer and longer pauses, and hears of nothing later meanwhile. None waits
            for another.
          </p>
        </Aside>
      }
    >
      {may ? (
        <div className="my-4 text-right">
          <Button onClick={() => setMaking(true)}>Make an endpoint</Button>
        </div>
      ) : (
        <p className="my-4 text-[13px] text-soft">Operations and owners of the house change them.</p>
      )}
      <Trouble error={list.error} />
      {list.isPending && <Waiting words="Reading the endpoints" />}
      {list.data?.length === 0 && (
        <p className="text-soft">
          There is none yet. A ledger, a status board or the team’s chat room could hear what happens.
        </p>
      )}
      {list.data && list.data.length > 0 && (
        <Table
          rows={list.data}
          id={(e) => e.id}
          columns={[
            {
              head: "Endpoint",
              cell: (e) => (
                <>
                  <Link className="figure-link" to={`/house/hooks/${e.id}`}>
                    {e.name}
                  </Link>
                  <div className="text-[12px] break-words text-soft">
                    {e.form}, <span className="inline-block">{e.shown}</span>
                  </div>
                </>
              ),
            },
            { head: "Hears of", cell: (e) => heard(e.wants) },
            {
              head: "How it stands",
              cell: (e) => standing(e),
              look: (e) => (e.trouble || !e.on ? "text-madder" : ""),
            },
          ]}
        />
      )}
      {making && <MakeEndpoint onClose={() => setMaking(false)} />}
    </Page>
  );
}
