import { Fragment } from "react";
import { type Locale, tellIn } from "./format";

/** What stands inside is told in one zone, currency and language, and laid out anew when one of them changes. */
export function Told({ zone, currency, language = "en-GB", children }: Props) {
  tellIn({ zone, currency, language });
  return <Fragment key={`${zone} ${currency} ${language}`}>{children}</Fragment>;
}

type Props = Omit<Locale, "language"> & { language?: string; children: React.ReactNode };
