import { api, type Console } from "../../api/console";

type Typed = Console["PasswordAndCode"];

/** How one's own second factor is changed. */
export const FACTOR = {
  begin: (body: { password: string }) => api.post("/second-factor", { body }),
  confirm: (body: { code: string }) => api.post("/second-factor/confirm", { body }),
  renew: (body: Typed) => api.post("/second-factor/recovery-codes", { body }),
  end: (body: Typed) => api.post("/second-factor/end", { body }),
};
