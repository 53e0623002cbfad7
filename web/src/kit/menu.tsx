import { DropdownMenu } from "radix-ui";

/** A small menu of words, opened from a trigger that says what it is for. */
export function Menu({
  label,
  trigger,
  className,
  children,
}: {
  label: string;
  trigger: React.ReactNode;
  className?: string;
  children: React.ReactNode;
}) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger aria-label={label} className={className}>
        {trigger}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          className="max-h-[70vh] overflow-y-auto rounded border border-line bg-sheet py-1 text-[13px] shadow-lg"
        >
          {children}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

export function MenuItem({ onSelect, children }: { onSelect: () => void; children: React.ReactNode }) {
  return (
    <DropdownMenu.Item
      className="cursor-pointer px-3 py-1.5 outline-none data-highlighted:bg-kelp-tint"
      onSelect={onSelect}
    >
      {children}
    </DropdownMenu.Item>
  );
}

export function MenuRule() {
  return <DropdownMenu.Separator className="my-1 border-t border-line-soft" />;
}
