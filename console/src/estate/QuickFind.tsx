import { TextInput } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useId, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { api, ask } from "../api/client";
import type { FindHit } from "../api/types";
import { customerOf } from "./emblem";
import { Flag } from "./Emblem";
import { Presence } from "./Presence";
import { useEmblems } from "./useCustomers";
import { useEstate, useScope } from "./useEstate";

const MOST = 9;

const asking = (typed: string) => ({
  queryKey: ["find", typed.trim()],
  queryFn: async () =>
    (await ask(api.GET("/api/v1/find", { params: { query: { text: typed.trim(), limit: MOST } } }))).items as FindHit[],
  staleTime: 5000,
});

/** Typing in the scope line finds a host by whatever is known of it. "/" goes there from anywhere. */
export function QuickFind() {
  const [scope] = useScope();
  const navigate = useNavigate();
  const input = useRef<HTMLInputElement>(null);
  const list = useId();
  const [typed, setTyped] = useState("");
  const [open, setOpen] = useState(false);
  const [chosen, setChosen] = useState(0);
  const queries = useQueryClient();
  const found = useQuery({ ...asking(typed), enabled: open, placeholderData: (before) => before });

  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      const typing =
        e.target instanceof HTMLElement &&
        (e.target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName));
      if (e.key === "/" && !typing && !e.ctrlKey && !e.metaKey && !e.altKey) {
        e.preventDefault();
        input.current?.focus();
      }
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, []);

  const hits = found.data ?? [];
  const at = Math.min(chosen, Math.max(0, hits.length - 1));
  const close = () => {
    setOpen(false);
    setTyped("");
    input.current?.blur();
  };
  const go = (hit: FindHit | undefined, panel = "") => {
    if (!hit) return;
    close();
    const search = new URLSearchParams();
    if (scope) search.set("scope", scope);
    if (panel) search.set("panel", panel);
    void navigate({ pathname: `/hosts/${hit.host.id}`, search: search.toString() });
  };
  const settled = found.data !== undefined && !found.isPlaceholderData;

  return (
    <div className="find">
      <TextInput
        ref={input}
        size="sm"
        w={270}
        placeholder="Find a host or a person  ( / )"
        aria-label="Find a host by name, customer, tag, address or the person logged in"
        role="combobox"
        aria-expanded={open}
        aria-controls={list}
        aria-activedescendant={open && hits.length > 0 ? `${list}-${at}` : undefined}
        autoComplete="off"
        spellCheck={false}
        value={typed}
        onFocus={() => setOpen(true)}
        onBlur={() => setOpen(false)}
        onChange={(e) => {
          setTyped(e.currentTarget.value);
          setChosen(0);
          setOpen(true);
        }}
        onKeyDown={(e) => {
          if (e.key === "Escape") close();
          else if (e.key === "ArrowDown" || e.key === "ArrowUp") {
            e.preventDefault();
            setChosen((at + (e.key === "ArrowDown" ? 1 : hits.length - 1)) % Math.max(1, hits.length));
          } else if (e.key === "Enter") {
            e.preventDefault();
            if (e.altKey) go(hits[at], "command");
            else if (e.ctrlKey) go(hits[at], "shell");
            else if (settled) go(hits[at]);
            // Enter before the answer is there: the first of it opens when it comes.
            else void queries.fetchQuery(asking(typed)).then((first) => go(first[0]));
          }
        }}
      />
      {open && (
        <div className="find-list">
          <div className="muted find-hint">
            {typed.trim() === ""
              ? hits.length > 0
                ? "Pinned and opened lately"
                : "Type a part of a name, address, customer, tag, or of who is logged in"
              : hits.length === 0 && settled
                ? `Nothing is like “${typed.trim()}”`
                : "Enter opens, Alt+Enter opens with a command, Ctrl+Enter with a shell"}
          </div>
          <ul role="listbox" id={list} aria-label="Hosts found">
            {hits.map((hit, i) => (
              <Hit key={hit.host.id} hit={hit} id={`${list}-${i}`} chosen={i === at} onChoose={go} />
            ))}
          </ul>
        </div>
      )}
    </div>
  );
}

/** One that was found, as it stands now. The keyboard reaches it through the field (aria-activedescendant). */
function Hit({
  hit,
  id,
  chosen,
  onChoose,
}: {
  hit: FindHit;
  id: string;
  chosen: boolean;
  onChoose: (hit: FindHit) => void;
}) {
  const host = useEstate().hosts.get(hit.host.id) ?? hit.host;
  const design = useEmblems()(host.groupPath);
  return (
    <li
      id={id}
      role="option"
      aria-selected={chosen}
      style={{ "--edge": design.field } as React.CSSProperties}
      onPointerDown={(e) => {
        e.preventDefault();
        onChoose(hit);
      }}
    >
      <span className="host-name">
        <b>
          {hit.mine.pinned && (
            <span className="pin" aria-hidden="true">
              ◆{" "}
            </span>
          )}
          {host.label}
        </b>
        <span className="mono">{host.label === host.systemName ? host.address : host.systemName}</span>
      </span>
      <span className="whose">
        <Flag design={design} size={16} />
        {customerOf(host.groupPath)}
      </span>
      <span className="muted">{host.users.join(", ")}</span>
      <Presence presence={host.presence} />
    </li>
  );
}
