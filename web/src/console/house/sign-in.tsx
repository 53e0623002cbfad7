import { useQueryClient } from "@tanstack/react-query";
import { Link, Route, Routes, useNavigate } from "react-router";
import { api, type Console } from "../../api/console";
import { entered } from "../../api/queries/asking";
import { AddressConfirmed } from "../../kit/mail-address";
import { SignInThrough } from "../../kit/outside";
import { SignInByPasskey } from "../../kit/passkeys";
import { Credentials, DemoPeople, Forgotten, Reset } from "../../kit/signing-in";
import { Join } from "./invite";
import { CameIn } from "./outside";

/** What somebody sees who is not signed in, wherever the address leads. */
export function Entrance({ me }: { me: Console["Me"] }) {
  return (
    <Routes>
      <Route path="/forgotten" element={<ForgottenPassword />} />
      <Route path="/reset" element={<ResetPassword />} />
      <Route path="/address" element={<NewAddress />} />
      <Route path="/join" element={<Join />} />
      <Route path="/signed-in" element={<CameIn me={me} />} />
      <Route path="*" element={<SignIn me={me} />} />
    </Routes>
  );
}

function ForgottenPassword() {
  return (
    <main className="mx-auto max-w-[420px] px-8 pt-[14vh]">
      <Forgotten ask={(email) => api.post("/session/forgotten", { body: { email } })} />
      <p className="mt-4">
        <Link className="figure-link" to="/">
          Back to signing in
        </Link>
      </p>
    </main>
  );
}

function ResetPassword() {
  const queries = useQueryClient();
  const navigate = useNavigate();
  return (
    <main className="mx-auto max-w-[420px] px-8 pt-[14vh]">
      <Reset
        set={(body) => api.post("/session/reset", { body })}
        onEntered={async () => {
          navigate("/", { replace: true });
          await entered(queries);
        }}
      />
    </main>
  );
}

/** For whoever has the letter to another address of theirs. */
export function NewAddress() {
  return (
    <main className="mx-auto max-w-[420px] px-8 pt-[14vh]">
      <AddressConfirmed confirm={(token) => api.post("/address/confirm", { body: { token } })}>
        <Link className="figure-link" to="/">
          Go on
        </Link>
      </AddressConfirmed>
    </main>
  );
}

function SignIn({ me }: { me: Console["Me"] }) {
  const queries = useQueryClient();
  const done = () => entered(queries);
  return (
    <main className="mx-auto grid max-w-[760px] gap-x-16 px-8 pt-[14vh] md:grid-cols-2">
      <div className="mb-8 md:col-span-2">
        <h1 className="text-[34px]">Calm Tariff</h1>
        <p className="mt-1 max-w-[60ch] text-soft">
          Who may call what, how fast, how much and for how much money: {me.provider}.
        </p>
      </div>
      <div>
        <Credentials
          heading={<h2 className="mb-3">Sign in</h2>}
          enter={(body) => api.post("/session", { body })}
          onEntered={done}
        >
          <Link className="figure-link" to="/forgotten">
            Password forgotten
          </Link>
        </Credentials>
        <SignInByPasskey
          ask={() => api.post("/session/passkey/begin", {})}
          enter={(passkey) => api.post("/session/passkey", { body: { passkey } })}
          onEntered={done}
        />
        <SignInThrough provider={me.signs_in_through} begin={() => api.post("/session/outside", {})} />
      </div>
      <DemoPeople
        people={me.demo}
        enter={(email) => api.post("/session/demo", { body: { email } })}
        onEntered={done}
        note="This is a demo: all people, names and figures are made up."
      />
    </main>
  );
}
