import { useMutation } from "@tanstack/react-query";
import { api, type Console } from "../../api/console";
import { refused } from "../../api/problem";
import { STALE } from "../../api/queries/admit";
import { useStale } from "../../api/queries/asking";
import { Trouble, WordButton } from "../../kit/controls";

type View = Console["PortalView"];
type Kind = "logo" | "icon";

/** A portal's logo and icon. Each is kept as soon as it is chosen. */
export function Pictures({ view }: { view: View }) {
  return (
    <>
      <Picture
        view={view}
        kind="logo"
        label="Logo"
        hint="Stands in the head of the portal, on the main colour."
      />
      <Picture view={view} kind="icon" label="Icon" hint="Stands in the tab of the browser; square." />
      <p className="text-[12px] text-soft">
        PNG, JPEG, WebP or GIF, at most 2 MB. Each is drawn anew, no larger than it is shown.
      </p>
    </>
  );
}

function Picture({ view, kind, label, hint }: { view: View; kind: Kind; label: string; hint: string }) {
  const stale = useStale();
  const kept = view[kind];
  const change = useMutation({
    mutationFn: async (file: File | null) => {
      const path = { portal_id: view.id, kind };
      if (!file) return void (await api.delete("/portals/{portal_id}/pictures/{kind}", { params: { path } }));
      const answer = await fetch(`/api/v1/portals/${view.id}/pictures/${kind}`, {
        method: "PUT",
        headers: { "content-type": "application/octet-stream" },
        body: file,
      });
      if (!answer.ok) throw await refused(answer);
    },
    onSuccess: () => stale(STALE.portal),
  });
  return (
    <div className="mb-3">
      <label className="block text-[13px] text-soft">
        {label}
        <input
          type="file"
          accept="image/png,image/jpeg,image/webp,image/gif"
          className="mt-1 block text-ink file:mr-3 file:cursor-pointer file:rounded file:border file:border-line file:bg-sheet file:px-3 file:py-1 file:text-[13px]"
          onChange={(e) => {
            const file = e.target.files?.[0];
            if (file) change.mutate(file);
            e.target.value = "";
          }}
        />
      </label>
      <div className="mt-1 flex items-center gap-3 text-[12px] text-soft">
        {kept ? (
          <>
            <span className="rounded-[2px] p-1.5" style={{ background: view.brand.main_colour }}>
              <img
                src={`${view.path}/api/v1/pictures/${kept.digest}.png`}
                alt={`${label} of ${view.brand.name}`}
                className="h-7 w-auto"
              />
            </span>
            {kept.width} × {kept.height}
            <WordButton className="text-[12px]" onClick={() => change.mutate(null)}>
              take it away
            </WordButton>
          </>
        ) : (
          hint
        )}
      </div>
      <Trouble error={change.error} />
    </div>
  );
}
