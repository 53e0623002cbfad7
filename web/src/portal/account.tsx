import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useLocation, useNavigate } from "react-router";
import { api } from "../api/portal";
import { Button, Field, Trouble } from "../kit/controls";
import { Credentials, DemoPeople } from "../kit/signing-in";
import { useMe } from "./app";

function useEntered() {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const { pathname } = useLocation();
  return async () => {
    await queries.invalidateQueries();
    if (pathname.startsWith("/sign-")) navigate("/applications");
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

export function SignUp() {
  const entered = useEntered();
  const [typed, setTyped] = useState({ name: "", organisation: "", email: "", password: "" });
  const set = (field: keyof typeof typed) => (value: string) => setTyped({ ...typed, [field]: value });
  const signUp = useMutation({ mutationFn: () => api.post("/sign-up", { body: typed }), onSuccess: entered });
  return (
    <form
      className="mx-auto max-w-[420px] pt-6"
      onSubmit={(e) => {
        e.preventDefault();
        signUp.mutate();
      }}
    >
      <h1 className="mb-4">Sign up</h1>
      <Field label="Your name" autoComplete="name" required value={typed.name} onChange={set("name")} />
      <Field
        label="Your organisation"
        autoComplete="organization"
        required
        value={typed.organisation}
        onChange={set("organisation")}
      />
      <Field
        label="E-mail address"
        type="email"
        autoComplete="email"
        required
        value={typed.email}
        onChange={set("email")}
      />
      <Field
        label="Password"
        type="password"
        autoComplete="new-password"
        required
        value={typed.password}
        onChange={set("password")}
        hint="At least 10 characters."
      />
      <Trouble error={signUp.error} />
      <Button main type="submit" disabled={signUp.isPending} className="mt-2">
        Make the account
      </Button>
    </form>
  );
}
