import { act, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { type Answering, answering, show } from "../test-pages";
import { MailPanel } from "./MailPanel";

let service: Answering;

const settings = {
  server: "mail.halyard.example",
  port: 587,
  security: "start-tls",
  user: "umbrek",
  hasPassword: true,
  from: "umbrek@halyard.example",
  console: null,
  version: 3,
};

beforeEach(() => {
  service = answering();
  service.answers["GET settings/mail"] = [200, settings];
});
afterEach(() => vi.unstubAllGlobals());

const puts = () => service.asked.filter((a) => a.method === "PUT");
const button = (name: string) => screen.findByRole("button", { name });

describe("how mail goes out", () => {
  it("is said in a sentence, also where no mail goes out or has no links", async () => {
    const { unmount } = show(<MailPanel lead />);
    const section = await screen.findByRole("region", { name: "How mail goes out" });
    await button("Change how mail goes out …");
    expect(section).toHaveTextContent(
      "Through mail.halyard.example:587 (STARTTLS), signed in as umbrek, from umbrek@halyard.example.",
    );
    expect(section).toHaveTextContent("Mails have no links");
    unmount();
    service.answers["GET settings/mail"] = [200, { ...settings, server: null }];
    show(<MailPanel lead />);
    expect(await screen.findByText("No server is set: no mail goes out.")).toBeVisible();
  });

  it("is a lead's business, and nobody else asks for it", async () => {
    show(<MailPanel lead={false} />);
    expect(await screen.findByText("Whoever administers everything sets the mail server.")).toBeVisible();
    expect(service.asked).toEqual([]);
  });

  it("is changed as it was read, though another changes it meanwhile, and the password stays", async () => {
    const { queries } = show(<MailPanel lead />);
    await userEvent.click(await button("Change how mail goes out …"));
    await userEvent.click(await screen.findByRole("radio", { name: "TLS" }));
    expect(screen.getByRole("textbox", { name: "Port" })).toHaveValue("465");
    await userEvent.clear(screen.getByRole("textbox", { name: "Mails come from" }));
    service.answers["GET settings/mail"] = [200, { ...settings, version: 4 }];
    await act(() => queries.refetchQueries({ queryKey: ["notices", "mail"] }));
    service.answers["PUT settings/mail"] = [412, { detail: "Tomasz Vail changed it meanwhile." }];
    await userEvent.click(await button("Send mail this way"));
    expect(await screen.findByText("Tomasz Vail changed it meanwhile.")).toBeVisible();
    expect(puts()[0]?.headers.get("If-Match")).toBe('"3"');
    expect(puts()[0]?.body).toEqual({
      server: "mail.halyard.example",
      port: 465,
      security: "tls",
      user: "umbrek",
      password: null,
      from: null,
      console: null,
    });
  });

  it("asks for no password where nobody signs in", async () => {
    show(<MailPanel lead />);
    await userEvent.click(await button("Change how mail goes out …"));
    expect(await screen.findByLabelText(/^Password/)).toBeVisible();
    await userEvent.clear(screen.getByRole("textbox", { name: "Sign in as" }));
    expect(screen.queryByLabelText(/^Password/)).toBeNull();
  });
});
