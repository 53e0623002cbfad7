import { api } from "../../api/console";
import { ownAddress, ownFactor, ownSessions } from "../../api/queries/house";
import { MailAddress } from "../../kit/mail-address";
import { SecondFactor } from "../../kit/second-factor";
import { Sessions } from "../../kit/sessions";
import { PasswordChange } from "../../kit/signing-in";
import { Page } from "../frame";

/** What guards one's own sign-in, and where one is signed in. */
export function You() {
  return (
    <Page
      title="Your sign-in"
      sub="A session ends after an hour in which nothing is asked, and after twelve hours in any case."
    >
      <div className="mt-5 grid max-w-[900px] gap-x-16 gap-y-8 md:grid-cols-2">
        <section aria-label="Your password">
          <h2 className="mb-1 text-[20px]">Your password</h2>
          <PasswordChange change={(body) => api.put("/password", { body })} />
        </section>
        <MailAddress own={ownAddress()} want={(body) => api.put("/address", { body })} />
      </div>
      <SecondFactor
        own={ownFactor()}
        begin={(body) => api.post("/second-factor", { body })}
        confirm={(body) => api.post("/second-factor/confirm", { body })}
        renew={(body) => api.post("/second-factor/recovery-codes", { body })}
        end={(body) => api.post("/second-factor/end", { body })}
      />
      <Sessions
        own={ownSessions()}
        endOne={(id) => api.delete("/sessions/{session_id}", { params: { path: { session_id: id } } })}
        endOthers={() => api.delete("/sessions", {})}
      />
    </Page>
  );
}
