import { type UseQueryOptions, useQuery } from "@tanstack/react-query";
import { Trouble } from "./controls";
import { Line } from "./fields";
import { Form, Refused, Send, useEntry } from "./form";
import { LetterSent, letterToken } from "./signing-in";

type Own = { email: string };
type Wanted = { email: string; password: string };

/** One's own mail address, and another that a letter shows to be one's own. */
export function MailAddress({
  own,
  want,
}: {
  own: UseQueryOptions<Own, Error, Own, readonly unknown[]>;
  want: (typed: Wanted) => Promise<unknown>;
}) {
  const now = useQuery(own);
  const entry = useEntry({ start: { email: "", password: "" }, send: want, afresh: true });
  return (
    <section className="max-w-[420px]" aria-label="Your mail address">
      <h2 className="mb-1 text-[20px]">Your mail address</h2>
      <Trouble error={now.error} />
      <p className="mb-3 text-soft">{now.data ? `Letters go to ${now.data.email}.` : " "}</p>
      <Form of={entry}>
        <Line name="email" label="Another address" type="email" autoComplete="email" required />
        <Line
          name="password"
          label="Your password"
          type="password"
          autoComplete="current-password"
          required
        />
        <Refused />
        {entry.sent && (
          <LetterSent>
            A letter to <b className="font-semibold">{entry.sent.email}</b> is on its way. Open the link in it
            within a day; until then your address stays as it is.
          </LetterSent>
        )}
        <Send main={false} className="mt-2">
          Send a letter there
        </Send>
      </Form>
    </section>
  );
}

/** For whoever has the letter: it becomes their address. */
export function AddressConfirmed({
  confirm,
  children,
}: {
  confirm: (token: string) => Promise<Own>;
  children: React.ReactNode;
}) {
  const entry = useEntry({ start: {}, send: () => confirm(letterToken()) });
  return (
    <Form of={entry}>
      <h1 className="mb-4">Your new mail address</h1>
      {entry.answer ? (
        <>
          <p role="status" className="mb-4">
            Letters go to <b className="font-semibold">{entry.answer.email}</b> from now on, and you sign in
            with it. The address before was told.
          </p>
          {children}
        </>
      ) : (
        <>
          <p className="mb-4 text-soft">You sign in with it from then on.</p>
          <Refused />
          <Send>Make it my address</Send>
        </>
      )}
    </Form>
  );
}
