/** A place for what may be larger than it: moved by the keyboard, too. */
export function Scrolled({
  label,
  most,
  children,
}: {
  label: string;
  most: string;
  children: React.ReactNode;
}) {
  return (
    <section
      // biome-ignore lint/a11y/noNoninteractiveTabindex: what is larger than its place is moved by the keyboard
      tabIndex={0}
      aria-label={label}
      className={`overflow-auto bg-(--portal-tint) p-3 font-mono text-[12.5px] leading-[1.5] ${most}`}
    >
      {children}
    </section>
  );
}
