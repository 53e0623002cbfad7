import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Suspense } from "react";
import { Link, matchPath, NavLink, Route, Routes, useLocation, useNavigate } from "react-router";
import { api, type Portal } from "../api/portal";
import { left } from "../api/queries/asking";
import { me as signedIn, unread } from "../api/queries/portal";
import { Boundary } from "../kit/boundary";
import { Trouble, Waiting } from "../kit/controls";
import { type Later, Loaded, later, useFirst } from "../kit/later";
import { Told } from "../kit/told";
import { Confirm, ForgottenPassword, NewAddress, ResetPassword, SignIn, SignUp, You } from "./account";
import { Browse } from "./browse";
import { picture, useLook } from "./look";
import { Look, Looked } from "./looking";
import { Me, useMe } from "./me";
import { Join } from "./organisation/invite";
import { SignedIn } from "./outside";
import { FurtherPage } from "./page";
import { ProductPage } from "./product";

type Member = Portal["Member"];

/** What somebody has here for themselves; each page's program is loaded when they go there. */
const OWN_PAGES: [string, Later][] = [
  ["/applications", later(() => import("./applications").then((of) => of.Applications))],
  ["/applications/:id", later(() => import("./applications").then((of) => of.ApplicationPage))],
  [
    "/subscriptions/:id",
    later(() => import("./subscription/subscription").then((of) => of.SubscriptionPage)),
  ],
  ["/requests/:id", later(() => import("./request").then((of) => of.RequestPage))],
  ["/organisation", later(() => import("./organisation/organisation").then((of) => of.OrganisationPage))],
  ["/organisation/closing", later(() => import("./organisation/closing").then((of) => of.ClosingPage))],
  ["/usage", later(() => import("./usage/usage").then((of) => of.UsagePage))],
  ["/notices", later(() => import("./notices").then((of) => of.NoticesPage))],
  ["/invoices", later(() => import("./invoices").then((of) => of.Invoices))],
  ["/invoices/:id", later(() => import("./invoices").then((of) => of.InvoicePage))],
  ["/account", later(() => import("./ledger").then((of) => of.AccountPage))],
  ["/credit-notes/:id", later(() => import("./invoices").then((of) => of.CreditNotePage))],
];

export function App() {
  const { pathname } = useLocation();
  const me = useQuery(signedIn());
  const arrived = useFirst(OWN_PAGES.find(([path]) => matchPath(path, pathname))?.[1]);
  const look = useLook(me.data?.look);
  if (me.error)
    return (
      <div className="p-10">
        <Trouble error={me.error} />
      </div>
    );
  if (!me.data || !look || !arrived)
    return (
      <div className="p-10">
        <Waiting words="Opening the portal" />
      </div>
    );
  const member = { ...me.data, look };
  return (
    <Told zone={look.time_zone} currency={look.currency}>
      <Me.Provider value={member}>
        <div className="portal flex min-h-full flex-col bg-white text-[15px] text-[#1E2B2A]">
          {member.looking && <Looked me={member} />}
          <Header me={member} />
          <main className="mx-auto w-full max-w-[1200px] flex-1 px-6 pt-6 pb-16">
            {member.name && !member.let_in && <NotLetIn me={member} />}
            {member.closed && <Closed me={member} />}
            {member.suspended && <Suspended me={member} />}
            {member.unpaid && <Unpaid me={member} />}
            <Boundary at={pathname}>
              <Suspense fallback={<Waiting words="Opening the page" />}>
                <Routes>
                  <Route path="/" element={<Browse />} />
                  <Route path="/products/:slug" element={<ProductPage />} />
                  <Route path="/pages/:prefix" element={<FurtherPage />} />
                  <Route path="/sign-in" element={<SignIn />} />
                  <Route path="/sign-up" element={<SignUp />} />
                  <Route path="/confirm" element={<Confirm />} />
                  <Route path="/forgotten" element={<ForgottenPassword />} />
                  <Route path="/reset" element={<ResetPassword />} />
                  <Route path="/join" element={<Join />} />
                  <Route path="/signed-in" element={<SignedIn />} />
                  <Route path="/looking" element={<Look />} />
                  <Route path="/address" element={<NewAddress />} />
                  <Route
                    path="/you"
                    element={
                      <Own>
                        <You />
                      </Own>
                    }
                  />
                  {OWN_PAGES.map(([path, page]) => (
                    <Route
                      key={path}
                      path={path}
                      element={
                        <Own>
                          <Loaded page={page} />
                        </Own>
                      }
                    />
                  ))}
                  <Route
                    path="*"
                    element={
                      <>
                        <h1>Nothing is here</h1>
                        <p className="mt-2">
                          <Link className="figure-link" to="/">
                            See the data and plans
                          </Link>
                        </p>
                      </>
                    }
                  />
                </Routes>
              </Suspense>
            </Boundary>
          </main>
          {member.name && <Foot me={member} />}
        </div>
      </Me.Provider>
    </Told>
  );
}

function Own({ children }: { children: React.ReactNode }) {
  const { name, let_in } = useMe();
  if (!name) return <SignIn />;
  return let_in ? children : <h1>Not yet</h1>;
}

/** What a member reads whose organisation waits for the provider. */
function NotLetIn({ me }: { me: Member }) {
  return (
    <p role="status" className="mb-6 bg-(--portal-tint) px-4 py-3">
      {me.look.provider} looks at new organisations before they are let in. Once {me.consumer} is, you get a
      letter; until then you see what everybody sees.
    </p>
  );
}

/** What is read where the account is closed. */
function Closed({ me }: { me: Member }) {
  return (
    <p role="status" className="mb-6 bg-(--portal-tint) px-4 py-3">
      The account of {me.consumer} is closed. Its usage, calls and invoices are left to be seen.
    </p>
  );
}

/** What is read where the organisation's calls are refused. */
function Suspended({ me }: { me: Member }) {
  return (
    <p role="status" className="mb-6 bg-(--portal-tint) px-4 py-3">
      {me.look.provider} has suspended {me.consumer}: its calls are refused. “{me.suspended}”
    </p>
  );
}

/** What is read where calls are held up because an invoice is not paid. */
function Unpaid({ me }: { me: Member }) {
  return (
    <p role="status" className="mb-6 bg-(--portal-tint) px-4 py-3">
      Calls of {me.consumer} are paused: invoice {me.unpaid} is not paid. They go on as soon as it is.
      {me.may.includes("see money") && (
        <>
          {" "}
          <Link className="figure-link" to="/account">
            See what is open
          </Link>
        </>
      )}
    </p>
  );
}

/** The way to one's notices, with how many of them are unread. */
function Notices({ link }: { link: (at: { isActive: boolean }) => string }) {
  const count = useQuery(unread()).data?.unread ?? 0;
  return (
    <NavLink to="/notices" className={link}>
      Notices{count > 0 && ` (${count})`}
    </NavLink>
  );
}

/** The provider's further pages, which stand in the head while there is room for them. */
function Foot({ me }: { me: Member }) {
  if (me.look.pages.length === 0) return null;
  return (
    <footer className="border-t border-(--portal-line)">
      <nav aria-label="More" className="mx-auto flex max-w-[1200px] flex-wrap gap-x-6 px-6 py-4 text-[14px]">
        {me.look.pages.map((page) => (
          <Link key={page.prefix} className="figure-link" to={`/pages/${page.prefix}`}>
            {page.title}
          </Link>
        ))}
      </nav>
    </footer>
  );
}

function Header({ me }: { me: Member }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const leave = async () => {
    await api.delete("/session");
    navigate("/");
    await left(queries);
  };
  const link = ({ isActive }: { isActive: boolean }) =>
    `border-b-2 pb-0.5 ${isActive ? "border-(--portal-accent)" : "border-transparent hover:border-white/40"}`;
  return (
    <header className="bg-(--portal-main) text-white">
      <div className="mx-auto flex max-w-[1200px] flex-wrap items-center gap-x-6 gap-y-2 px-6 py-3.5 text-[14px]">
        <Link to="/" className="flex items-center gap-3 font-serif text-[20px]">
          {me.look.logo && <img src={picture(me.look.logo)} alt="" className="h-8 w-auto" />}
          {me.look.name}
        </Link>
        <nav aria-label="Main" className="flex flex-wrap gap-x-5 gap-y-1">
          <NavLink to="/" end className={link}>
            Data and plans
          </NavLink>
          {!me.name &&
            me.look.pages.map((page) => (
              <NavLink key={page.prefix} to={`/pages/${page.prefix}`} className={link}>
                {page.title}
              </NavLink>
            ))}
          {me.name && (
            <>
              <NavLink to="/applications" className={link}>
                My applications
              </NavLink>
              <NavLink to="/usage" className={link}>
                Usage
              </NavLink>
              {me.may.includes("see money") && (
                <NavLink to="/invoices" className={link}>
                  Invoices
                </NavLink>
              )}
            </>
          )}
        </nav>
        <div className="ml-auto flex flex-wrap gap-x-5 gap-y-1">
          {me.name ? (
            <>
              {me.let_in && <Notices link={link} />}
              {me.looking ? (
                <span>{me.name}</span>
              ) : (
                <NavLink to="/you" className={link} title="Your sign-in">
                  {me.name}
                </NavLink>
              )}
              {me.let_in && (
                <NavLink to="/organisation" className={link} title="Who belongs to it">
                  {me.consumer}
                </NavLink>
              )}
              {!me.looking && (
                <button
                  type="button"
                  onClick={leave}
                  className={`${link({ isActive: false })} underline decoration-white/40 underline-offset-4`}
                >
                  Sign out
                </button>
              )}
            </>
          ) : (
            <>
              <NavLink to="/sign-in" className={link}>
                Sign in
              </NavLink>
              {me.look.sign_up !== "nobody" && (
                <NavLink to="/sign-up" className={link}>
                  Sign up
                </NavLink>
              )}
            </>
          )}
        </div>
      </div>
    </header>
  );
}
