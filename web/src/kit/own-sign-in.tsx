import { MailAddress } from "./mail-address";
import { Passkeys } from "./passkeys";
import { SecondFactor } from "./second-factor";
import { Sessions } from "./sessions";
import { PasswordChange } from "./signing-in";

type Guards = {
  password: Parameters<typeof PasswordChange>[0];
  address: Parameters<typeof MailAddress>[0];
  factor: Parameters<typeof SecondFactor>[0];
  passkeys: Parameters<typeof Passkeys>[0];
  sessions: Parameters<typeof Sessions>[0];
};

/** What guards one's own sign-in, and where one is signed in: the same for everybody who has a password here. */
export function OwnSignIn({ password, address, factor, passkeys, sessions }: Guards) {
  return (
    <>
      <div className="mt-5 grid max-w-[900px] gap-x-16 gap-y-8 md:grid-cols-2">
        <section aria-label="Your password">
          <h2 className="mb-1 text-[20px]">Your password</h2>
          <PasswordChange {...password} />
        </section>
        <MailAddress {...address} />
      </div>
      <SecondFactor {...factor} />
      <Passkeys {...passkeys} />
      <Sessions {...sessions} />
    </>
  );
}
