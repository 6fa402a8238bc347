import { MantineProvider } from "@mantine/core";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";
import type { HostSummary } from "../api/types";
import { DeskHolds } from "./DeskHolds";
import { type DesktopLine, type DesktopSeen, unseen } from "./desktopLine";
import { HandsWord, PassOn } from "./HandsWord";

function start() {
  const line = { host: { label: "quay-ticket-01" } as HostSummary, hold: vi.fn(), hands: vi.fn() };
  return { line: line as unknown as DesktopLine, ...line };
}

const seen = (news: Partial<DesktopSeen>): DesktopSeen => ({ ...unseen, state: "connected", ...news });

function show(page: React.ReactNode) {
  const queries = new QueryClient({ defaultOptions: { queries: { enabled: false } } });
  queries.setQueryData(["me"], { name: "Ines Okafor" });
  return render(
    <MantineProvider env="test">
      <QueryClientProvider client={queries}>{page}</QueryClientProvider>
    </MantineProvider>,
  );
}

describe("what is held of the people's desk", () => {
  const holds = (line: DesktopLine, news: Partial<DesktopSeen>) => (
    <DeskHolds line={line} seen={seen(news)} host="quay-ticket-01" inPortal={false} />
  );

  it("is asked for and given back, each by itself", async () => {
    const { line, hold } = start();
    show(holds(line, { hold: { isTaken: true, count: 2, isHidden: false, locks: false } }));
    await userEvent.click(screen.getByRole("button", { name: "Keyboard taken" }));
    const choices = screen.getAllByRole("menuitemcheckbox");
    expect(choices.map((c) => c.getAttribute("aria-checked"))).toEqual(["true", "false", "false"]);
    for (const choice of choices) await userEvent.click(choice);
    expect(hold.mock.calls).toEqual([[{ takeInput: false }], [{ hide: true }], [{ lock: true }]]);
  });

  it.each([
    [undefined, "At the desk"],
    [{ isTaken: true, count: 2, isHidden: true, locks: false }, "Screen hidden"],
    [{ isTaken: false, count: 0, isHidden: false, locks: true }, /^At the desk ?locked when I leave$/],
  ])("stands on the button", (hold, name) => {
    show(holds(start().line, { hold }));
    expect(screen.getByRole("button", { name })).toBeEnabled();
  });

  it("can't be asked for before there is a screen, and the button says why", () => {
    show(holds(start().line, { state: "opening" }));
    expect(screen.getByRole("button")).toBeDisabled();
    expect(screen.getByRole("button")).toHaveAttribute("title", "Nothing is shown yet");
  });
});

describe("who of several acts", () => {
  it("is asked by another, who may be let or not", async () => {
    const { line, hands } = start();
    show(<HandsWord line={line} seen={seen({ hands: { mine: true, by: "Ines Okafor", askedBy: "Tomasz Vail" } })} />);
    expect(screen.getByRole("alert")).toHaveTextContent("Tomasz Vail asks to control quay-ticket-01.");
    await userEvent.click(screen.getByRole("button", { name: "Let Tomasz Vail control" }));
    await userEvent.click(screen.getByRole("button", { name: "Keep control" }));
    expect(hands.mock.calls).toEqual([["give"], ["keep"]]);
  });

  it("is said to who does not, and he may ask once", async () => {
    const { line, hands } = start();
    const { unmount } = show(<HandsWord line={line} seen={seen({ hands: { mine: false, by: "Tomasz Vail" } })} />);
    expect(screen.getByRole("status")).toHaveTextContent("Tomasz Vail controls quay-ticket-01 now.");
    await userEvent.click(screen.getByRole("button", { name: "Ask to control" }));
    expect(hands).toHaveBeenCalledWith("ask");
    unmount();
    show(<HandsWord line={line} seen={seen({ hands: { mine: false, by: "Tomasz Vail", askedBy: "Ines Okafor" } })} />);
    expect(screen.getByText("Tomasz Vail is asked.")).toBeInTheDocument();
    expect(screen.queryByRole("button")).toBeNull();
  });

  it("says nothing to who is alone, or has it", () => {
    const { line } = start();
    show(
      <>
        <HandsWord line={line} seen={seen({})} />
        <HandsWord line={line} seen={seen({ hands: { mine: true, by: "Ines Okafor" } })} />
        <HandsWord line={line} seen={seen({ state: "broken", hands: { mine: false, by: "Tomasz Vail" } })} />
      </>,
    );
    expect(screen.queryByRole("status")).toBeNull();
    expect(screen.queryByRole("alert")).toBeNull();
  });

  it("passes to another who may, and not to who only watches", async () => {
    const { line, hands } = start();
    const mine = { mine: true, by: "Ines Okafor" };
    const { unmount } = show(
      <PassOn
        line={line}
        seen={seen({ hands: mine, others: [{ technician: "Priya Lund", control: false, acts: false }] })}
      />,
    );
    expect(screen.queryByRole("button")).toBeNull();
    unmount();
    show(
      <PassOn
        line={line}
        seen={seen({ hands: mine, others: [{ technician: "Tomasz Vail", control: true, acts: false }] })}
      />,
    );
    await userEvent.click(screen.getByRole("button", { name: "Let Tomasz Vail control" }));
    expect(hands).toHaveBeenCalledWith("give");
  });
});
