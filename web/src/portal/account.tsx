import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useLocation, useNavigate } from "react-router";
import { api } from "../api/portal";
import { entered } from "../api/queries/asking";
import { Button, Field, Trouble } from "../kit/controls";
import {
  Credentials,
  DemoPeople,
  Forgotten,
  LetterSent,
  letterToken,
  NewPassword,
  PasswordChange,
  Reset,
} from "../kit/signing-in";
import { useMe } from "./app";

const ENTRANCES = new Set(["/sign-in", "/confirm", "/reset"]);

function useEntered() {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const { pathname } = useLocation();
  return async () => {
    await entered(queries);
    if (ENTRANCES.has(pathname)) navigate("/applications", { replace: true });
  };
}

export function SignIn() {
  const me = useMe();
  const entered = useEntered();
  return (
    <div className="mx-auto grid max-w-[860px] gap-x-16 gap-y-8 pt-6 md:grid-cols-2">
      <Credentials
        heading={<h1 className="mb-4">Sign in</h1>}
        enter={(email, password) => api.post("/session", { body: { email, password } })}
        onEntered={entered}
      >
        <Link className="figure-link" to="/sign-up">
          Sign up instead
        </Link>
        <Link className="figure-link" to="/forgotten">
          Password forgotten
        </Link>
      </Credentials>
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
  const [email, setEmail] = useState("");
  const ask = useMutation({ mutationFn: () => api.post("/sign-up", { body: { email } }) });
  return (
    <Narrow
      onSubmit={() => {
        ask.mutate();
      }}
    >
      <h1 className="mb-4">Sign up</h1>
      {ask.isSuccess ? (
        <LetterSent>
          A letter to <b className="font-semibold">{email}</b> is on its way. Open the link in it within a day
          to go on. Nothing there? Look where unwanted mail is kept, or{" "}
          <button type="button" className="figure-link" onClick={() => ask.reset()}>
            try another address
          </button>
          .
        </LetterSent>
      ) : (
        <>
          <p className="mb-4 text-soft">
            An account is your organisation's: its applications, keys, plans and invoices.
          </p>
          <Field
            label="E-mail address"
            type="email"
            autoComplete="email"
            required
            autoFocus
            value={email}
            onChange={setEmail}
          />
          <Trouble error={ask.error} />
          <div className="mt-2 flex items-center gap-4">
            <Button main type="submit" disabled={ask.isPending}>
              Send me a letter
            </Button>
            <Link className="figure-link" to="/sign-in">
              Sign in instead
            </Link>
          </div>
        </>
      )}
    </Narrow>
  );
}

/** Then the account, for whoever has the letter. */
export function Confirm() {
  const entered = useEntered();
  const [typed, setTyped] = useState({ name: "", organisation: "", password: "" });
  const set = (field: keyof typeof typed) => (value: string) => setTyped({ ...typed, [field]: value });
  const confirm = useMutation({
    mutationFn: () => api.post("/sign-up/confirm", { body: { ...typed, token: letterToken() } }),
    onSuccess: entered,
  });
  return (
    <Narrow
      onSubmit={() => {
        confirm.mutate();
      }}
    >
      <h1 className="mb-4">Your account</h1>
      <Field label="Your name" autoComplete="name" required value={typed.name} onChange={set("name")} />
      <Field
        label="Your organisation"
        autoComplete="organization"
        required
        value={typed.organisation}
        onChange={set("organisation")}
      />
      <NewPassword value={typed.password} onChange={set("password")} />
      <Trouble error={confirm.error} />
      <div className="mt-2 flex items-center gap-4">
        <Button main type="submit" disabled={confirm.isPending}>
          Make the account
        </Button>
        {confirm.error && (
          <Link className="figure-link" to="/sign-up">
            Ask for another letter
          </Link>
        )}
      </div>
    </Narrow>
  );
}

export function ForgottenPassword() {
  return (
    <div className="mx-auto max-w-[420px] pt-6">
      <Forgotten ask={(email) => api.post("/session/forgotten", { body: { email } })} />
    </div>
  );
}

export function ResetPassword() {
  const entered = useEntered();
  return (
    <div className="mx-auto max-w-[420px] pt-6">
      <Reset
        set={(token, password) => api.post("/session/reset", { body: { token, password } })}
        onEntered={entered}
      />
    </div>
  );
}

export function OwnPassword() {
  return (
    <>
      <h1 className="mb-4">Your password</h1>
      <PasswordChange change={(current, next) => api.put("/password", { body: { current, new: next } })} />
    </>
  );
}

function Narrow({ onSubmit, children }: { onSubmit: () => void; children: React.ReactNode }) {
  return (
    <form
      className="mx-auto max-w-[420px] pt-6"
      onSubmit={(e) => {
        e.preventDefault();
        onSubmit();
      }}
    >
      {children}
    </form>
  );
}
