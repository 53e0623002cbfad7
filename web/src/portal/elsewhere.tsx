import { useMutation } from "@tanstack/react-query";
import { Button, Trouble } from "../kit/controls";

/** The way to the provider's own site, where something is done instead of here. */
export function GoOnElsewhere({
  site,
  ask,
  children,
}: {
  site: string;
  ask: () => Promise<{ address: string }>;
  children: React.ReactNode;
}) {
  const go = useMutation({ mutationFn: ask, onSuccess: ({ address }) => window.location.assign(address) });
  return (
    <>
      <p className="mb-3">{children}</p>
      <Button main onClick={() => go.mutate()} disabled={go.isPending || go.isSuccess}>
        Go on at {new URL(site).host}
      </Button>
      <Trouble error={go.error} />
    </>
  );
}
