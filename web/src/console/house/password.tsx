import { api } from "../../api/console";
import { ownSessions } from "../../api/queries/house";
import { Sessions } from "../../kit/sessions";
import { PasswordChange } from "../../kit/signing-in";
import { Page } from "../frame";

/** One's own password. */
export function OwnPassword() {
  return (
    <Page
      title="Your password"
      sub="A session ends after an hour in which nothing is asked, and after twelve hours in any case."
    >
      <div className="mt-5">
        <PasswordChange change={(body) => api.put("/password", { body })} />
      </div>
      <Sessions
        own={ownSessions()}
        endOne={(id) => api.delete("/sessions/{session_id}", { params: { path: { session_id: id } } })}
        endOthers={() => api.delete("/sessions", {})}
      />
    </Page>
  );
}
