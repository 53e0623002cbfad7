import { api, type Portal } from "../api/portal";
import { useStale } from "../api/queries/asking";
import { STALE } from "../api/queries/portal";
import { Dialog, WordButton } from "../kit/controls";
import { Choice, Line } from "../kit/fields";
import { Ends, Form, Send, useEntry } from "../kit/form";

type App = Portal["ApplicationView"];

/** What an application is, in a sentence or two. */
export function WhatItIs({ app, onChange }: { app: App; onChange?: () => void }) {
  return (
    <p className="mt-1 max-w-[76ch] text-(--portal-soft)">
      {app.purpose || "Nobody has said what it is for."}{" "}
      {app.environment === "sandbox" && "It calls the sandbox alone. "}
      {app.contact && (
        <>
          Ask{" "}
          <a className="figure-link" href={`mailto:${app.contact}`}>
            {app.contact}
          </a>{" "}
          about it.{" "}
        </>
      )}
      {onChange && <WordButton onClick={onChange}>change this</WordButton>}
    </p>
  );
}

/** What an application is, asked: of a new one, or of one that is there. */
export function ApplicationForm({
  app,
  onClose,
  onDone,
}: {
  app?: App;
  onClose: () => void;
  onDone: (made: App) => void;
}) {
  const stale = useStale();
  const entry = useEntry({
    start: {
      name: app?.name ?? "",
      purpose: app?.purpose ?? "",
      environment: (app?.environment === "sandbox" ? "sandbox" : "live") as "live" | "sandbox",
      contact: app?.contact ?? "",
    },
    send: (body) =>
      app
        ? api.put("/applications/{application_id}", { params: { path: { application_id: app.id } }, body })
        : api.post("/applications", { body }),
    done: async (made) => {
      await stale(STALE.application);
      onDone(made);
    },
  });
  return (
    <Dialog open onClose={onClose} title={app ? app.name : "Register an application"}>
      <Form of={entry}>
        <Line name="name" label="Name" required autoFocus hint="As your own people call it." />
        <Line name="purpose" label="What it is for" area />
        <Choice
          name="environment"
          label="It calls"
          choices={[
            ["live", "live, and the sandbox to try things"],
            ["sandbox", "the sandbox alone"],
          ]}
        />
        <Line
          name="contact"
          label="Mail address of whoever knows about it"
          type="email"
          hint="The provider writes there should its calls do harm."
        />
        <Ends onLeave={onClose}>
          <Send>{app ? "Save" : "Register it"}</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
