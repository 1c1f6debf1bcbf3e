import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { NavLink, useLocation, useNavigate } from "react-router";
import { api, queries } from "../api/client";
import { mutate } from "../api/mutate";
import { mark } from "../api/push";
import * as reads from "../api/reads";
import { useKeys } from "../components/keys";
import { Item, Menu, MenuHead } from "../components/Menu";
import { sayError } from "../components/Toast";
import { Shortcuts } from "./Shortcuts";
import type { Session } from "./session";

/** Where one can go, and from which width on it stands in the head itself; below that it is under *More*. */
const PLACES: { to: string; name: string; wide: "" | "hidden sm:flex" | "hidden md:flex" | "hidden lg:flex" }[] = [
  { to: "/", name: "Today", wide: "" },
  { to: "/workflows", name: "Workflows", wide: "hidden sm:flex" },
  { to: "/approvals", name: "Approvals", wide: "" },
  { to: "/calendar", name: "Calendar", wide: "hidden md:flex" },
  { to: "/sheets", name: "Sheets", wide: "hidden lg:flex" },
  { to: "/runs", name: "Runs", wide: "hidden lg:flex" },
  { to: "/brands", name: "Brands", wide: "hidden lg:flex" },
  { to: "/connections", name: "Connections", wide: "hidden lg:flex" },
];

/** *More* stands for the place one is at only where that has no place of its own in the head. */
const QUIET: Record<string, string> = {
  "hidden sm:flex": "sm:border-transparent sm:text-soft",
  "hidden md:flex": "md:border-transparent md:text-soft",
};

/** The head of every page: where one can go, who is here, and that the outside is simulated where it is. */
export function Masthead({ session, line }: { session: Session; line: boolean }) {
  const [help, setHelp] = useState(false);
  const go = useNavigate();
  const house = useQuery(reads.house());
  const waiting = useQuery(reads.approvals(50));
  const open = waiting.data?.waiting ?? 0;
  useEffect(() => mark(open), [open]);
  useKeys({
    "?": () => setHelp(true),
    "1": () => go("/"),
    "2": () => go("/workflows"),
    "3": () => go("/approvals"),
    "4": () => go("/calendar"),
    "5": () => go("/sheets"),
    "6": () => go("/runs"),
    "7": () => go("/brands"),
    "8": () => go("/connections"),
  });
  const places = PLACES.filter(({ to }) => to !== "/connections" || ["owner", "maker"].includes(session.role));
  const { pathname } = useLocation();
  const more = places.filter(({ wide }) => wide);
  const inMore = more.find(({ to }) => pathname.startsWith(to));
  return (
    <header className="border-b border-rule">
      <div className="flex h-11 items-center gap-1.5 px-3 sm:gap-3 sm:px-5 lg:gap-5">
        <NavLink
          to="/"
          aria-label="Ulmus"
          className="flex items-center gap-1.5 font-serif text-lg font-semibold tracking-tight"
        >
          <Leaf /> <span className="hidden sm:inline">Ulmus</span>
        </NavLink>
        <nav aria-label="Main" className="flex h-full min-w-0 flex-1 items-center gap-1 text-sm">
          {places.map(({ to, name, wide }) => (
            <NavLink
              key={to}
              to={to}
              end={to === "/"}
              className={({ isActive }) =>
                `${wide || "flex"} h-full items-center border-b-2 px-2 xl:px-2.5 ${isActive ? "border-leaf text-ink" : "border-transparent text-soft hover:text-ink"}`
              }
            >
              {name}
              {to === "/approvals" && open > 0 && (
                <span className="ml-1.5 rounded-full bg-ochrewash px-1.5 text-xs text-ochre">
                  {open}
                  <span className="sr-only"> waiting</span>
                </span>
              )}
            </NavLink>
          ))}
          <Menu
            opens={
              <button
                type="button"
                className={`flex h-full items-center border-b-2 px-2 whitespace-nowrap lg:hidden ${inMore ? "border-leaf text-ink" : "border-transparent text-soft"} ${inMore ? QUIET[inMore.wide] : ""}`}
              >
                More
              </button>
            }
          >
            {more.map(({ to, name }) => (
              <Item key={to} onSelect={() => go(to)}>
                {name}
              </Item>
            ))}
          </Menu>
        </nav>
        {session.town_url && (
          <a
            href={session.town_url}
            target="_blank"
            rel="noreferrer"
            aria-label="The outside is simulated: open the practice town"
            className="text-xs text-soft underline decoration-dotted underline-offset-4 hover:text-ink"
          >
            <span className="hidden xl:inline">The outside is simulated: open the practice town</span>
            <span className="xl:hidden">simulated</span>
          </a>
        )}
        <Menu
          opens={
            <button
              type="button"
              className="max-w-28 truncate rounded px-1.5 py-1 text-sm hover:bg-shade sm:px-2 lg:max-w-48"
            >
              <span className="sm:hidden">{session.name.split(" ")[0]}</span>
              <span className="hidden sm:inline">{session.name}</span>
            </button>
          }
        >
          <MenuHead>
            {session.email}, {session.role}
          </MenuHead>
          <Item onSelect={() => go("/account")}>{session.role === "owner" ? "Account and people" : "Account"}</Item>
          {session.role === "owner" && <Item onSelect={() => go("/trail")}>Audit trail</Item>}
          {session.role === "owner" && <Item onSelect={() => go("/kept")}>What is kept</Item>}
          {session.role === "owner" && <Item onSelect={() => go("/person")}>A person’s data</Item>}
          {session.role === "owner" && house.data?.workers && <Item onSelect={() => go("/workers")}>Workers</Item>}
          <Item onSelect={turnTheme}>Light or dark</Item>
          <Item onSelect={() => setHelp(true)}>Shortcuts</Item>
          <Item onSelect={signOut}>Sign out</Item>
        </Menu>
      </div>
      {!line && (
        <p role="alert" className="bg-ochrewash px-5 py-1 text-sm text-ochre">
          The server cannot be reached. What you write is kept on this page and saved when it is back.
        </p>
      )}
      <Shortcuts open={help} onClose={() => setHelp(false)} />
    </header>
  );
}

function Leaf() {
  return (
    <svg aria-hidden="true" viewBox="0 0 32 32" className="h-[18px] w-[18px]">
      <path d="M27 4C13 4 5 10 5 19c0 3 1 5 2 6 3-7 8-11 14-14-5 4-10 9-12 17h3c2 0 15 1 15-24z" fill="var(--leaf)" />
    </svg>
  );
}

function turnTheme() {
  const root = document.documentElement;
  root.dataset.theme = root.dataset.theme === "dark" ? "light" : "dark";
  localStorage.setItem("theme", root.dataset.theme);
}

async function signOut() {
  try {
    await mutate(api.DELETE("/api/session"), "nothing");
    queries.clear();
    window.location.assign("/");
  } catch (error) {
    sayError(error);
  }
}
