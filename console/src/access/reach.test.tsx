import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { type Answering, answering, show } from "../test-pages";
import { ReachPage } from "./ReachPage";

let service: Answering;

const grant = (news: object) => ({ id: "g", role: "technician", groupPath: "Saltmarsh Ferry", ended: false, ...news });

beforeEach(() => {
  service = answering();
  service.answers["GET me"] = [200, { name: "Ines Okafor", everywhere: ["administer"], anywhere: ["administer"] }];
  service.answers["GET groups"] = [
    200,
    { items: [{ id: "f", path: "Saltmarsh Ferry", name: "Saltmarsh Ferry", may: ["see", "administer"] }] },
  ];
  service.answers["GET roles"] = [200, { items: [{ name: "technician", permissions: ["see", "run"] }] }];
  service.answers["GET access/matrix"] = [
    200,
    {
      customers: ["Saltmarsh Ferry", "Copperbeech Libraries"],
      rows: [
        {
          technicianId: "i",
          technician: "Ines Okafor",
          cells: [
            { grants: [grant({ id: "1", role: "lead", groupPath: null })] },
            { grants: [grant({ id: "1", role: "lead", groupPath: null })] },
          ],
        },
        {
          technicianId: "t",
          technician: "Tomasz Vail",
          cells: [
            {
              grants: [
                grant({ id: "2", groupPath: "Saltmarsh Ferry/Quay", team: "Coast" }),
                grant({ id: "3", role: "viewer", endsAt: "2026-11-01T17:00:00Z", ended: true }),
              ],
            },
            { grants: [] },
          ],
        },
      ],
    },
  ];
});
afterEach(() => vi.unstubAllGlobals());

describe("who reaches what", () => {
  it("says at each crossing which role, on how much of the customer, by which team and until when", async () => {
    show(<ReachPage />);
    const ines = await screen.findByRole("row", { name: /^Ines Okafor/ });
    const tomasz = screen.getByRole("row", { name: /^Tomasz Vail/ });
    const [ferry, libraries] = within(tomasz).getAllByRole("cell") as [HTMLElement, HTMLElement];
    expect(within(ines).getAllByText("on everything")).toHaveLength(2);
    expect(ferry).toHaveTextContent(/technician.*only Quay · team Coast.*viewer.*ended/);
    expect(within(ferry).getByText("viewer").parentElement).toHaveClass("muted");
    expect(libraries).toHaveTextContent(/^Give a role$/);
  });

  it("gives a role at the crossing where it is asked for", async () => {
    service.answers["POST grants"] = [201, grant({})];
    show(<ReachPage />);
    await userEvent.click(await screen.findByRole("button", { name: "Give Tomasz Vail a role on Saltmarsh Ferry" }));
    const dialog = await screen.findByRole("dialog", { name: "Give Tomasz Vail a role" });
    await userEvent.click(
      within(dialog).getByRole("button", { name: "Make Tomasz Vail technician on Saltmarsh Ferry" }),
    );
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
    expect(service.asked.find((a) => a.method === "POST")?.body).toMatchObject({
      technician: "Tomasz Vail",
      team: null,
      role: "technician",
      groupPath: "Saltmarsh Ferry",
      everything: false,
    });
  });

  it("is for those who administer something, and says who they are", async () => {
    service.answers["GET me"] = [
      200,
      { name: "Priya Lund", everywhere: [], anywhere: ["see"], canChange: ["Ines Okafor"] },
    ];
    show(<ReachPage />);
    expect(await screen.findByText("This takes the permission “administer”")).toBeVisible();
    expect(screen.getByText(/Ines Okafor can change that/)).toBeVisible();
  });
});
