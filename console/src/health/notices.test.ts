import { describe, expect, it } from "vitest";
import type { DeliveryInfo, NoticeInfo } from "../api/types";
import { deliveryWords, noticeOf, noticeTo, noticeWhen, noticeWish } from "./noticeWords";
import { lasting, recurrenceWords } from "./recurrence";

const notice = (part: Partial<NoticeInfo>): NoticeInfo => ({
  id: "n",
  name: "Ferry team",
  way: "mail",
  groupId: "g",
  place: "Saltmarsh Ferry/Quay",
  on: null,
  atLeast: "warning",
  about: null,
  teamId: "t",
  team: "Coast",
  addresses: ["duty@halyard.example"],
  url: null,
  afterSeconds: 0,
  digestAt: null,
  quiet: null,
  zone: "Europe/London",
  criticalAlways: true,
  tellsEnd: true,
  off: false,
  waiting: 0,
  failed: 0,
  lastArrivedAt: null,
  trouble: null,
  createdBy: "Ines Okafor",
  version: 1,
  ...part,
});

describe("a notice in words", () => {
  it("says whom it tells, of what and when", () => {
    expect(noticeTo(notice({}))).toBe("team Coast, duty@halyard.example");
    expect(noticeTo(notice({ url: "https://desk.halyard.example/alerts" }))).toBe(
      "https://desk.halyard.example/alerts",
    );
    expect(noticeOf(notice({ about: ["storage", "memory"], on: "tagged till" }))).toBe(
      "warnings and worse about storage, memory in Saltmarsh Ferry ▸ Quay on hosts with tagged till",
    );
    expect(noticeWhen(notice({}))).toBe("at once");
    expect(noticeWhen(notice({ afterSeconds: 900, quiet: "sat-sun" }))).toBe(
      "when nobody takes it up for 15 min; quiet sat-sun (Europe/London), but for critical",
    );
    expect(noticeWhen(notice({ digestAt: ["07:30", "17:00"] }))).toBe("a summary at 07:30 and 17:00 (Europe/London)");
    expect(noticeWhen(notice({ off: true, digestAt: ["07:30"] }))).toBe("never: switched off");
  });

  it("is wished for as it is", () => {
    const wish = noticeWish(notice({ quiet: "sat-sun" }));
    expect(wish).toMatchObject({
      name: "Ferry team",
      quiet: "sat-sun",
      teamId: "t",
      addresses: ["duty@halyard.example"],
    });
    expect(wish).not.toHaveProperty("version");
  });

  it("says how far a delivery is", () => {
    const delivery = (part: Partial<DeliveryInfo>) =>
      deliveryWords({ state: "waiting", attempts: 0, ...part } as DeliveryInfo);
    expect(delivery({})).toBe("on its way");
    expect(delivery({ attempts: 1 })).toBe("tried 1 time");
    expect(delivery({ state: "failed", attempts: 50 })).toBe("given up");
    expect(delivery({ state: "delivered", attempts: 1 })).toBe("arrived");
  });
});

describe("a maintenance window in words", () => {
  it("says when it comes again and how long it lasts", () => {
    expect(recurrenceWords(null)).toBe("once");
    expect(recurrenceWords("FREQ=WEEKLY;BYDAY=SU")).toBe("every Sunday");
    expect(recurrenceWords("FREQ=WEEKLY;BYDAY=MO,TH")).toBe("every Monday and Thursday");
    expect(recurrenceWords("FREQ=MONTHLY;BYDAY=1SU")).toBe("FREQ=MONTHLY;BYDAY=1SU");
    expect(lasting(45)).toBe("45 min");
    expect(lasting(180)).toBe("3 h");
    expect(lasting(3 * 1440 + 61)).toBe("3 d 1 h 1 min");
  });
});
