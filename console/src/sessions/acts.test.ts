import { expect, it } from "vitest";
import { actWords } from "./acts";

const act = (action: string, detail = "{}") =>
  actWords({ at: "2026-11-23T10:00:00Z", by: "Ines Okafor", action, detail });

it("says what was done in words, with what belongs to it", () => {
  expect(act("desktop.control")).toBe("the desktop is controlled");
  expect(act("session.end", '{"why":"ended by Ines Okafor"}')).toBe("the session ends: ended by Ines Okafor");
  expect(act("session.end")).toBe("the session ends");
  expect(act("files.put-back", '{"path":"/srv/tide"}')).toBe("files: put back, /srv/tide");
  expect(act("job.new", "no JSON")).toBe("job: new");
});
