import { useQueryClient } from "@tanstack/react-query";
import { api, type Console } from "../api/console";
import { Credentials, DemoPeople } from "../kit/signing-in";

export function SignIn({ me }: { me: Console["Me"] }) {
  const queries = useQueryClient();
  const done = () => queries.invalidateQueries({ queryKey: ["me"] });
  return (
    <main className="mx-auto grid max-w-[760px] gap-x-16 px-8 pt-[14vh] md:grid-cols-2">
      <div className="mb-8 md:col-span-2">
        <h1 className="text-[34px]">Calm Tariff</h1>
        <p className="mt-1 max-w-[60ch] text-soft">
          Who may call what, how fast, how much and for how much money: {me.provider}.
        </p>
      </div>
      <Credentials
        heading={<h2 className="mb-3">Sign in</h2>}
        enter={(email, password) => api.post("/session", { body: { email, password } })}
        onEntered={done}
      />
      <DemoPeople
        people={me.demo}
        enter={(email) => api.post("/session/demo", { body: { email } })}
        onEntered={done}
        note="This is a demo: all people, names and figures are made up."
      />
    </main>
  );
}
