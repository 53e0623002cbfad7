import { Link } from "react-router";
import { api } from "../api/portal";
import { ownAddress, ownFactor, ownPasskeys, ownSessions } from "../api/queries/portal";
import { Line } from "../kit/fields";
import { Form, Refused, Send, useEntry } from "../kit/form";
import { AddressConfirmed } from "../kit/mail-address";
import { OwnSignIn } from "../kit/own-sign-in";
import { SignInByPasskey } from "../kit/passkeys";
import {
  Credentials,
  DemoPeople,
  Forgotten,
  LetterSent,
  letterToken,
  NewPassword,
  Reset,
} from "../kit/signing-in";
import { GoOnElsewhere } from "./elsewhere";
import { useEntered } from "./entered";
import { useMe } from "./me";
import { OwnOutside, SignInHere } from "./outside";

const NARROW = "mx-auto max-w-[420px] pt-6";
export function SignIn() {
  const me = useMe();
  const entered = useEntered();
  return (
    <div className="mx-auto grid max-w-[860px] gap-x-16 gap-y-8 pt-6 md:grid-cols-2">
      <div>
        <Credentials
          heading={<h1 className="mb-4">Sign in</h1>}
          enter={(body) => api.post("/session", { body })}
          onEntered={entered}
        >
          <Link className="figure-link" to="/sign-up">
            Sign up instead
          </Link>
          <Link className="figure-link" to="/forgotten">
            Password forgotten
          </Link>
        </Credentials>
        <SignInByPasskey
          ask={() => api.post("/session/passkey/begin", {})}
          enter={(passkey) => api.post("/session/passkey", { body: { passkey } })}
          onEntered={entered}
        />
        <SignInHere />
      </div>
      <DemoPeople
        people={me.demo}
        enter={(email) => api.post("/session/demo", { body: { email } })}
        onEntered={entered}
        note="This is a demo: all people, names and figures are made up."
      />
    </div>
  );
}

/** First the address, which a letter shows to be one's own. */
export function SignUp() {
  const { sign_up, sign_up_site, provider } = useMe().look;
  if (sign_up_site)
    return (
      <div className={NARROW}>
        <h1 className="mb-4">Sign up</h1>
        <GoOnElsewhere site={sign_up_site} ask={() => api.post("/sign-up/elsewhere", {})}>
          {provider} makes accounts at a site of its own. You come back here afterwards.
        </GoOnElsewhere>
      </div>
    );
  if (sign_up === "by invitation" || sign_up === "nobody")
    return (
      <div className={NARROW}>
        <h1 className="mb-4">Sign up</h1>
        <p>
          {sign_up === "nobody"
            ? "No accounts are made here at the moment."
            : `Accounts are made by invitation: ${provider} has a letter sent to whoever is invited, and its link leads here.`}
        </p>
        <p className="mt-3">
          <Link className="figure-link" to="/sign-in">
            Sign in instead
          </Link>
        </p>
      </div>
    );
  return <AskForAccount />;
}

function AskForAccount() {
  const { look } = useMe();
  const entry = useEntry({ start: { email: "" }, send: (body) => api.post("/sign-up", { body }) });
  return (
    <Form of={entry} className={NARROW}>
      <h1 className="mb-4">Sign up</h1>
      {entry.sent ? (
        <LetterSent>
          A letter to <b className="font-semibold">{entry.sent.email}</b> is on its way. Open the link in it
          within a day to go on. Nothing there? Look where unwanted mail is kept, or{" "}
          <button type="button" className="figure-link" onClick={entry.again}>
            try another address
          </button>
          .
        </LetterSent>
      ) : (
        <>
          <p className="mb-4 text-soft">
            An account is your organisation's: its applications, keys, plans and invoices.
            {look.sign_up === "mail domains" &&
              " Your address must be one of an organisation that is known here."}
            {!look.at_once && ` ${look.provider} looks at new organisations before they are let in.`}
          </p>
          <Line name="email" label="E-mail address" type="email" autoComplete="email" required autoFocus />
          <Refused />
          <div className="mt-2 flex items-center gap-4">
            <Send>Send me a letter</Send>
            <Link className="figure-link" to="/sign-in">
              Sign in instead
            </Link>
          </div>
        </>
      )}
    </Form>
  );
}

/** Then the account, for whoever has the letter. */
export function Confirm() {
  const entered = useEntered();
  const entry = useEntry({
    start: { name: "", organisation: "", password: "" },
    send: (typed) => api.post("/sign-up/confirm", { body: { ...typed, token: letterToken() } }),
    done: entered,
  });
  return (
    <Form of={entry} className={NARROW}>
      <h1 className="mb-4">Your account</h1>
      <Line name="name" label="Your name" autoComplete="name" required />
      <Line name="organisation" label="Your organisation" autoComplete="organization" required />
      <NewPassword name="password" />
      <Refused />
      <div className="mt-2 flex items-center gap-4">
        <Send>Make the account</Send>
        {entry.error !== null && (
          <Link className="figure-link" to="/sign-up">
            Ask for another letter
          </Link>
        )}
      </div>
    </Form>
  );
}

export function ForgottenPassword() {
  return (
    <div className={NARROW}>
      <Forgotten ask={(email) => api.post("/session/forgotten", { body: { email } })} />
    </div>
  );
}

export function ResetPassword() {
  const entered = useEntered();
  return (
    <div className={NARROW}>
      <Reset set={(body) => api.post("/session/reset", { body })} onEntered={entered} />
    </div>
  );
}

/** For whoever has the letter to another address of theirs. */
export function NewAddress() {
  const { name } = useMe();
  return (
    <div className={NARROW}>
      <AddressConfirmed confirm={(token) => api.post("/address/confirm", { body: { token } })}>
        <Link className="figure-link" to={name ? "/you" : "/sign-in"}>
          {name ? "Your sign-in" : "Sign in"}
        </Link>
      </AddressConfirmed>
    </div>
  );
}

/** What guards one's own sign-in, and where one is signed in. */
export function You() {
  const { name, consumer, role } = useMe();
  return (
    <>
      <h1>Your sign-in</h1>
      <p className="mt-1 text-soft">
        You are {name}, and belong to{" "}
        <Link className="figure-link" to="/organisation">
          {consumer}
        </Link>{" "}
        as {role}.
      </p>
      <OwnSignIn
        password={{ change: (body) => api.put("/password", { body }) }}
        address={{ own: ownAddress(), want: (body) => api.put("/address", { body }) }}
        factor={{
          own: ownFactor(),
          begin: (body) => api.post("/second-factor", { body }),
          confirm: (body) => api.post("/second-factor/confirm", { body }),
          renew: (body) => api.post("/second-factor/recovery-codes", { body }),
          end: (body) => api.post("/second-factor/end", { body }),
        }}
        passkeys={{
          own: ownPasskeys(),
          begin: (body) => api.post("/passkeys/begin", { body }),
          keep: (body) => api.post("/passkeys", { body }),
          end: (id, body) =>
            api.post("/passkeys/{passkey_id}/end", { params: { path: { passkey_id: id } }, body }),
        }}
        sessions={{
          own: ownSessions(),
          endOne: (id) => api.delete("/sessions/{session_id}", { params: { path: { session_id: id } } }),
          endOthers: () => api.delete("/sessions", {}),
        }}
      />
      <OwnOutside />
    </>
  );
}
