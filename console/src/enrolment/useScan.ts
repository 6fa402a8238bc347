import { useEffect, useState } from "react";
import { follow } from "../api/live";
import type { ScanChanges, ScanFind, ScanInfo } from "../api/types";

export interface LiveScan {
  info: ScanInfo | undefined;
  finds: ReadonlyMap<string, ScanFind>;
}

const nothing: LiveScan = { info: undefined, finds: new Map() };

export function take(before: LiveScan, changes: ScanChanges): LiveScan {
  const finds = new Map(changes.reset ? [] : before.finds);
  for (const find of changes.finds) finds.set(find.address, find);
  return { info: changes.info, finds };
}

/** A scan with what it found, live until it has ended. */
export function useScan(id: string | undefined): LiveScan {
  const [state, setState] = useState<{ id: string | undefined; live: LiveScan }>({ id, live: nothing });
  useEffect(() => {
    if (!id) return;
    return follow<ScanChanges>(
      "Scan",
      [id],
      (changes) => setState((s) => ({ id, live: take(s.id === id ? s.live : nothing, changes) })),
      () => undefined,
    );
  }, [id]);
  return state.id === id ? state.live : nothing;
}

const number = (address: string): number => address.split(".").reduce((n, part) => n * 256 + Number(part), 0);

/** What is to be shown, by address. */
export function shownFinds(live: LiveScan, filter: string, notOurs: boolean): ScanFind[] {
  const text = filter.trim().toLowerCase();
  return [...live.finds.values()]
    .filter((f) => !notOurs || !f.oursHostId)
    .filter((f) =>
      [f.address, f.name, f.hardwareAddress, f.vendor, f.oursLabel, ...f.openPorts.map(String)].some(
        (part) => !text || part?.toLowerCase().includes(text),
      ),
    )
    .sort((a, b) => number(a.address) - number(b.address));
}

/** The network around a host, as far as its address tells: the 256 addresses that share its first three numbers. */
export function around(address: string | null | undefined): string {
  const parts = (address ?? "").split(".");
  return parts.length === 4 ? `${parts.slice(0, 3).join(".")}.0/24` : "";
}
