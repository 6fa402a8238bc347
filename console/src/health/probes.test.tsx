import { MantineProvider } from "@mantine/core";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { MemoryRouter } from "react-router";
import { expect, test } from "vitest";
import type { Probe } from "../api/types";
import { ProbeFields } from "./ProbeFields";
import { ProbeState } from "./ProbeState";
import { figureWords, isBad, newProbe, probeKinds, probeStateWords } from "./probeWords";

test("a figure is read in its unit", () => {
  expect(figureWords({ name: "left", value: 9.4 * 86400, unit: "time" })).toBe("left 9 d");
  expect(figureWords({ name: "left", value: -2 * 86400, unit: "time" })).toBe("left −2 d");
  expect(figureWords({ name: "took", value: 0.0124, unit: "time" })).toBe("took 12 ms");
  expect(figureWords({ name: "lost", value: 33.333, unit: "percent" })).toBe("lost 33.3 %");
  expect(figureWords({ name: "free", value: 12.5 * 1024 ** 2, unit: "size" })).toBe("free 12.5 MiB");
  expect(figureWords({ name: "queue", value: 1840, unit: "count" })).toBe("queue 1,840");
});

test("a limit that is past is bad though the probe is well", () => {
  expect(probeStateWords("well", "left < 14 d")).toBe("past left < 14 d");
  expect(isBad("well", "left < 14 d")).toBe(true);
  expect(isBad("well", null)).toBe(false);
  expect(isBad("unknown", "left < 14 d")).toBe(false);
  render(<ProbeState state={undefined} past={null} />);
  expect(screen.getByText("not known")).toBeVisible();
});

test("each kind asks for what it takes, and only a service can be started again", async () => {
  let last: Probe = newProbe("service");
  function Form() {
    const [probe, setProbe] = useState(last);
    const [limits, setLimits] = useState("");
    last = probe;
    return <ProbeFields probe={probe} limits={limits} on={undefined} onProbe={setProbe} onLimits={setLimits} />;
  }
  render(
    <MantineProvider env="test">
      <QueryClientProvider client={new QueryClient()}>
        <MemoryRouter>
          <Form />
        </MemoryRouter>
      </QueryClientProvider>
    </MantineProvider>,
  );
  await userEvent.click(screen.getByText("start it again"));
  expect(last.act).toBe("restart");
  await userEvent.click(screen.getByLabelText("What has to be so", { selector: "input" }));
  await userEvent.click(screen.getByRole("option", { name: "a log gets no such lines" }));
  expect(last).toEqual({ ...newProbe("log") });
  expect(screen.queryByText("start it again")).toBeNull();
  expect(screen.getByText("The hosts have to allow reading files.")).toBeVisible();
  await userEvent.type(screen.getByLabelText("Such lines, as a regular expression"), "frame late");
  expect(last.text).toBe("frame late");
  expect(new Set(probeKinds.map((k) => k.kind)).size).toBe(8);
});
