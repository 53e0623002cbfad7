import { type UseQueryOptions, useMutation, useQuery } from "@tanstack/react-query";
import Bowser from "bowser";
import { Trouble, Waiting, WordButton } from "./controls";
import { dayAndMinute } from "./format";
import { Table } from "./table";

type Session = {
  id: string;
  began_at: string;
  seen_at: string;
  address: string;
  browser: string;
  this: boolean;
};
type Props = {
  /** The query of one's own sessions. */
  own: UseQueryOptions<Session[], Error, Session[], readonly unknown[]>;
  endOne: (id: string) => Promise<unknown>;
  endOthers: () => Promise<unknown>;
};

/** Where one is signed in; each session can be ended, and all but this. */
export function Sessions({ own, endOne, endOthers }: Props) {
  const list = useQuery(own);
  const again = { onSettled: () => list.refetch() };
  const one = useMutation({ mutationFn: endOne, ...again });
  const others = useMutation({ mutationFn: endOthers, ...again });
  const rows = list.data ?? [];
  return (
    <section className="mt-8 max-w-[760px]" aria-label="Where you are signed in">
      <h2 className="mb-1 text-[20px]">Where you are signed in</h2>
      <Trouble error={list.error ?? one.error ?? others.error} />
      {list.isPending && <Waiting words="Looking where" />}
      <Table
        className="text-[14px]"
        rows={rows}
        id={(s) => s.id}
        columns={[
          { head: "Browser", cell: (s) => browserWords(s.browser) },
          { head: "From", cell: (s) => s.address },
          { head: "Since", cell: (s) => dayAndMinute(s.began_at) },
          { head: "Last used", cell: (s) => dayAndMinute(s.seen_at) },
          {
            head: "End",
            quiet: true,
            number: true,
            cell: (s) =>
              s.this ? (
                <span className="text-soft">this one</span>
              ) : (
                <WordButton disabled={one.isPending} onClick={() => one.mutate(s.id)}>
                  end it
                </WordButton>
              ),
          },
        ]}
      />
      {rows.length > 1 && (
        <WordButton className="mt-2" disabled={others.isPending} onClick={() => others.mutate()}>
          end all but this one
        </WordButton>
      )}
    </section>
  );
}

/** A browser and its system, by its own word. */
export function browserWords(agent: string): string {
  if (!agent) return "not said";
  const { browser, os } = Bowser.parse(agent);
  const words = [browser.name, os.name && `on ${os.name}`].filter(Boolean).join(" ");
  return words || agent.slice(0, 40);
}
