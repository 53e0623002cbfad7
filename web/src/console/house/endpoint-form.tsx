import { api, type Console } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { STALE } from "../../api/queries/house";
import { Button, Dialog } from "../../kit/controls";
import { Line, Radios } from "../../kit/fields";
import { Form, Refused, Send, useEntry } from "../../kit/form";
import { EventChoice } from "./event-choice";

type Endpoint = Console["EndpointView"];
type Wanted = { name: string; form: Endpoint["form"]; url: string; wants: string[] };

const FORMS = [
  ["signed webhook", "to a system, as a signed webhook (Standard Webhooks)"],
  ["chat message", "to a chat room, as a line of words"],
] as const;

/** A new endpoint, and the secret that its webhooks are signed with. */
export function MakeEndpoint({ onClose }: { onClose: () => void }) {
  const stale = useStale();
  const start: Wanted = { name: "", form: "signed webhook", url: "", wants: ["*"] };
  const make = useEntry({
    start,
    send: (body) => api.post("/endpoints", { body }),
    done: () => stale(STALE.endpoint),
  });
  const signed = make.answer?.endpoint.form === "signed webhook";
  return (
    <Dialog wide open onClose={onClose} title={make.answer ? make.answer.endpoint.name : "Make an endpoint"}>
      {make.answer && signed && <Secret secret={make.answer.secret} onClose={onClose} />}
      {make.answer && !signed && (
        <>
          <p className="mb-3">The room is told from now on. Nobody sees its address here again.</p>
          <Button main onClick={onClose}>
            Good
          </Button>
        </>
      )}
      {!make.answer && (
        <Form of={make}>
          <Line name="name" label="Its name" required autoFocus />
          <p className="text-[13px] text-soft">What happens goes</p>
          <Radios<Endpoint["form"]> name="form" choices={FORMS} />
          <Line
            name="url"
            label="Its address"
            required
            inputMode="url"
            hint="http or https. What happened is sent there with POST; whatever answers with 2xx has taken it."
          />
          <EventChoice name="wants" />
          <Refused />
          <Send>Make it</Send>
        </Form>
      )}
    </Dialog>
  );
}

/** What an endpoint is to be otherwise. */
export function ChangeEndpoint({ of, onClose }: { of: Endpoint; onClose: () => void }) {
  const stale = useStale();
  const start: Wanted = { name: of.name, form: of.form, url: "", wants: of.wants };
  const change = useEntry({
    start,
    send: (body) =>
      api.put("/endpoints/{endpoint_id}", {
        params: { path: { endpoint_id: of.id }, header: { "if-match": `"${of.edition}"` } },
        body: { ...body, url: body.url || null },
      }),
    done: async () => {
      await stale(STALE.endpoint);
      onClose();
    },
  });
  return (
    <Dialog wide open onClose={onClose} title={of.name}>
      <Form of={change}>
        <Line name="name" label="Its name" required autoFocus />
        <Line name="url" label="Another address" inputMode="url" hint={`Left empty, it stays ${of.shown}`} />
        <EventChoice name="wants" />
        <Refused />
        <Send>Keep it so</Send>
      </Form>
    </Dialog>
  );
}

/** A secret, shown this once. */
export function Secret({
  secret,
  onClose,
  children,
}: {
  secret: string;
  onClose: () => void;
  children?: React.ReactNode;
}) {
  return (
    <>
      <p className="mb-2">
        Whoever listens there checks the signatures with this secret. It is shown this once; where it is lost,
        make another.
      </p>
      {children}
      <output data-testid="secret" className="mb-3 block border border-line bg-paper p-2 break-all">
        {secret}
      </output>
      <Button main onClick={onClose}>
        I have kept it
      </Button>
    </>
  );
}
