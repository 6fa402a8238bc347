import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { type Answering, answering, show } from "../test-pages";
import { SavedSelections } from "./SavedSelections";

let service: Answering;

const full = { id: "s", name: "Nearly full", text: "storage.used > 85 %", note: "look twice a week", hosts: 3 };
const broken = { id: "t", name: "Old ones", text: "system ~ ", problem: "Something is missing behind ~", hosts: 0 };

beforeEach(() => {
  service = answering();
  service.answers["GET selections"] = [200, { items: [full, broken] }];
});
afterEach(() => vi.unstubAllGlobals());

function Page({ from = "" }: { from?: string }) {
  const [on, setOn] = useState(from);
  return (
    <>
      <output>{on}</output>
      <SavedSelections on={on} onChange={setOn} />
    </>
  );
}
const on = () => screen.getByRole("status").textContent;
const button = (name: string | RegExp) => screen.findByRole("button", { name });

describe("saved selections", () => {
  it("are put in force and out of it, and say what they name", async () => {
    show(<Page />);
    const one = await button(/^Nearly full/);
    expect(one).toHaveTextContent("3");
    expect(one).toHaveAttribute("title", "storage.used > 85 % (look twice a week)");
    await userEvent.click(one);
    expect(on()).toBe('saved "Nearly full"');
    expect(await button(/^Nearly full/)).toHaveAttribute("aria-pressed", "true");
    expect(screen.getByText("storage.used > 85 % (look twice a week)")).toBeVisible();
    await userEvent.click(await button(/^Nearly full/));
    expect(on()).toBe("");
  });

  it("that can't be read any more say so, and why", async () => {
    show(<Page />);
    const one = await button(/^Old ones/);
    expect(one).toHaveTextContent("can’t be read");
    expect(one).toHaveAttribute("title", broken.problem);
  });

  it("are made of what is selected, under a name", async () => {
    service.answers["POST selections"] = [201, { ...full, id: "u", name: "Tills" }];
    show(<Page from="tagged till" />);
    await userEvent.click(await button("Save this selection"));
    const save = await button("Save");
    expect(save).toBeDisabled();
    expect(save).toHaveAttribute("title", "Give it a name first");
    await userEvent.type(screen.getByRole("textbox", { name: "Name of the selection" }), "Tills");
    await userEvent.click(save);
    await waitFor(() => expect(on()).toBe('saved "Tills"'));
    expect(service.asked.find((a) => a.method === "POST")?.body).toEqual({
      name: "Tills",
      text: "tagged till",
      note: null,
    });
  });

  it("keep what was written where the service refuses the name", async () => {
    service.answers["POST selections"] = [409, { detail: "There is a selection 'Tills' already." }];
    show(<Page from="tagged till" />);
    await userEvent.click(await button("Save this selection"));
    await userEvent.type(screen.getByRole("textbox", { name: "Name of the selection" }), "Tills");
    await userEvent.click(await button("Save"));
    expect(await screen.findByText("There is a selection 'Tills' already.")).toBeVisible();
    expect(screen.getByRole("textbox", { name: "Name of the selection" })).toHaveValue("Tills");
    await userEvent.click(await button("Don’t"));
    expect(screen.queryByRole("textbox", { name: "Name of the selection" })).toBeNull();
    expect(on()).toBe("tagged till");
  });

  it("leave what they said behind when they go, so that it can be saved again", async () => {
    service.answers["DELETE selections/s"] = [204, null];
    show(<Page from='saved "Nearly full"' />);
    const remove = await button("Remove “Nearly full” from the saved ones");
    service.answers["GET selections"] = [200, { items: [broken] }];
    await userEvent.click(remove);
    await waitFor(() => expect(on()).toBe("storage.used > 85 %"));
    expect(await button("Save this selection")).toBeVisible();
  });
});
