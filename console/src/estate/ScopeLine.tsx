import { TextInput } from "@mantine/core";
import { useEffect, useRef, useState } from "react";
import { NavLink, useLocation, useNavigate, useSearchParams } from "react-router";
import type { TechnicianInfo } from "../api/types";
import { SignOut } from "../access/SignOut";
import { Emblem } from "./Emblem";
import { estateStore } from "./estateStore";
import { rowsOf } from "./hostList";
import { useScope } from "./useEstate";

const places = [
  { to: "/hosts", name: "Hosts" },
  { to: "/work", name: "Work" },
  { to: "/join", name: "Join" },
];

/** Where we are and what is in view: always on top, on every page. Typing in it finds hosts; "/" goes there. */
export function ScopeLine({ me, waiting = 0 }: { me: TechnicianInfo; waiting?: number }) {
  const [scope, setScope] = useScope();
  const [params] = useSearchParams();
  const navigate = useNavigate();
  const location = useLocation();
  const find = useRef<HTMLInputElement>(null);
  // Kept here and not read from the address: that follows a moment later, and letters typed quickly would be lost.
  const [typed, setTyped] = useState(params.get("find") ?? "");
  const names = scope ? scope.split("/") : [];

  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      const typing = e.target instanceof HTMLElement && /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName);
      if (e.key === "/" && !typing) {
        e.preventDefault();
        find.current?.focus();
      }
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, []);

  const search = (text: string) => {
    setTyped(text);
    const next = new URLSearchParams(params);
    if (text) next.set("find", text);
    else next.delete("find");
    void navigate({ pathname: "/hosts", search: next.toString() }, { replace: location.pathname === "/hosts" });
  };

  const openFirst = () => {
    const first = rowsOf(estateStore.get().hosts.values(), scope, typed.trim()).find((r) => r.kind === "host");
    if (first) {
      setTyped("");
      void navigate({
        pathname: `/hosts/${first.host.id}`,
        search: scope ? `?scope=${encodeURIComponent(scope)}` : "",
      });
    }
  };

  return (
    <header className="scope-line">
      <nav className="places" aria-label="Places">
        {places.map((p) => (
          <NavLink
            key={p.to}
            onClick={() => setTyped("")}
            to={{ pathname: p.to, search: scope ? `?scope=${encodeURIComponent(scope)}` : "" }}
          >
            {p.name}
            {p.to === "/join" && waiting > 0 && (
              <span className="waits">
                {" "}
                {waiting}
                <span className="hidden-text"> waiting</span>
              </span>
            )}
          </NavLink>
        ))}
      </nav>
      <nav className="crumbs" aria-label="Scope">
        <button type="button" className={scope ? "" : "here"} onClick={() => setScope("")}>
          Everything
        </button>
        {names.map((name, i) => (
          <span key={name + i} style={{ display: "contents" }}>
            <span className="mark" aria-hidden="true">
              ▸
            </span>
            {i === 0 && <Emblem customer={name} />}
            <button
              type="button"
              className={i === names.length - 1 ? "here" : ""}
              onClick={() => setScope(names.slice(0, i + 1).join("/"))}
            >
              {name}
            </button>
          </span>
        ))}
      </nav>
      <TextInput
        className="find"
        ref={find}
        size="sm"
        w={250}
        placeholder="Find a host or a person  ( / )"
        aria-label="Find a host by name, group, address or the person logged in"
        value={typed}
        onChange={(e) => search(e.currentTarget.value)}
        onKeyDown={(e) => {
          if (e.key === "Escape") search("");
          if (e.key === "Enter" && typed.trim()) openFirst();
        }}
      />
      <SignOut me={me} />
    </header>
  );
}
