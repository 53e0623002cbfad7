import { Link } from "react-router";

export type BooksTab = "proof" | "journal" | "accounts";

const TABS: [BooksTab, string, string][] = [
  ["proof", "Proof", "/settle/books"],
  ["journal", "Journal", "/settle/books/journal"],
  ["accounts", "Names of accounts", "/settle/books/accounts"],
];

/** The pages of the books, the one that is shown in bold. */
export function BooksTabs({ shown }: { shown: BooksTab }) {
  return (
    <p className="mt-4">
      {TABS.map(([each, words, to], n) => (
        <span key={each}>
          {n > 0 && " · "}
          {each === shown ? (
            <b className="font-medium">{words}</b>
          ) : (
            <Link className="figure-link" to={to}>
              {words}
            </Link>
          )}
        </span>
      ))}
    </p>
  );
}
