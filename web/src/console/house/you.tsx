import { api } from "../../api/console";
import { ownAddress, ownFactor, ownPasskeys, ownSessions } from "../../api/queries/house";
import { OwnSignIn } from "../../kit/own-sign-in";
import { Page } from "../frame";
import { FACTOR } from "./factor";

/** What guards one's own sign-in, and where one is signed in. */
export function You() {
  return (
    <Page
      title="Your sign-in"
      sub="A session ends after an hour in which nothing is asked, and after twelve hours in any case."
    >
      <OwnSignIn
        password={{ change: (body) => api.put("/password", { body }) }}
        address={{ own: ownAddress(), want: (body) => api.put("/address", { body }) }}
        factor={{ own: ownFactor(), ...FACTOR }}
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
    </Page>
  );
}
