import { describe, expect, it } from "vitest";
import type { ShelfInfo } from "../api/types";
import { contentOf, pathIn, wayTo } from "./shelves";

const shelf: ShelfInfo = {
  id: "0193",
  name: "recipes",
  groupId: "0192",
  groupPath: "Tarn Valley Creamery",
  createdAt: "2026-11-27T08:00:00Z",
  createdBy: "Ines Okafor",
  files: 3,
  bytes: 2048,
};

describe("a place on a shelf", () => {
  it("is reached folder by folder", () => {
    expect(wayTo("/")).toEqual([{ path: "/", name: "The shelf" }]);
    expect(wayTo("/cheese/soft").map((w) => w.path)).toEqual(["/", "/cheese", "/cheese/soft"]);
    expect(wayTo("/cheese/").map((w) => w.name)).toEqual(["The shelf", "cheese"]);
  });

  it("has one slash between its parts", () => {
    expect(pathIn("/", "brine.txt")).toBe("/brine.txt");
    expect(pathIn("/cheese", "brine.txt")).toBe("/cheese/brine.txt");
  });

  it("is asked for by an address that holds whatever its name does", () => {
    expect(contentOf(shelf, "/50 % & more?#.txt")).toBe(
      "/api/v1/shelves/0193/content?path=%2F50%20%25%20%26%20more%3F%23.txt",
    );
  });
});
