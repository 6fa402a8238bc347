import { expect, test } from "vitest";
import { powerWish, sentence } from "./power";

const where = "quay-ticket-03 of Saltmarsh Ferry";

test("an act names what it is about", () => {
  expect(sentence({ act: "restart", graceSeconds: 0 }, where)).toBe("Restart quay-ticket-03 of Saltmarsh Ferry");
  expect(sentence({ act: "log-out", graceSeconds: 0 }, where)).toBe(
    "Log everybody out of quay-ticket-03 of Saltmarsh Ferry",
  );
  expect(sentence({ act: "lock", graceSeconds: 0, person: "elin" }, where)).toBe(
    "Lock the screen of elin on quay-ticket-03 of Saltmarsh Ferry",
  );
});

test("only what an act takes is sent of what was filled in", () => {
  expect(powerWish("restart", 2.5, " new driver ", "elin")).toEqual({
    act: "restart",
    graceSeconds: 150,
    message: "new driver",
  });
  expect(powerWish("lock", 5, "new driver", "elin")).toEqual({ act: "lock", graceSeconds: 0, person: "elin" });
  expect(powerWish("log-out", "", " ", "")).toEqual({ act: "log-out", graceSeconds: 0 });
});
