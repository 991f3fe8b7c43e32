import { describe, expect, it } from "vitest";
import { read } from "../testing";
import { Notifications, quietText } from "./Notifications";

const receivers = JSON.stringify(["receivers"]);
const notices = JSON.stringify(["receivers", "notices"]);
const session = JSON.stringify(["session"]);
const as = (role: string) => ({ name: "ada", role, clock: { now: "2031-03-07T18:00:00Z", factor: 1 } });
const board = {
  name: "board",
  address: "https://hooks.lanternfish.example/rotanex",
  subjects: ["behind", "done"],
  quiet: [{ days: "mon-fri", from: "22:00", to: "07:00" }],
  fault: "",
  created_at: "2031-03-07T18:00:00Z",
};

describe("notifications", () => {
  it("say how to begin where nobody is told", () => {
    const text = read(<Notifications />, { [receivers]: [], [notices]: [], [session]: as("viewer") });
    expect(text).toContain("Nobody is told");
    expect(text).not.toContain("Tell somebody");
  });

  it("say who is told, of what, and what went wrong; only an admin changes that", () => {
    const shown = {
      [receivers]: [board, { ...board, name: "ada", subjects: [], fault: "it answered 503" }],
      [notices]: [],
    };
    const text = read(<Notifications />, { ...shown, [session]: as("admin") });
    expect(text).toContain("behind, done");
    expect(text).toContain("mon-fri 22:00–07:00");
    expect(text).toContain("it answered 503");
    expect(text).toContain("Send a test");
    expect(text).toContain("Tell somebody");
    expect(read(<Notifications />, { ...shown, [session]: as("operator") })).not.toContain("Send a test");
  });

  it("list what was told", () => {
    const notice = {
      id: "1",
      receiver: "board",
      subject: "behind",
      text: "run 12345678 falls behind",
      at: board.created_at,
      state: "sent",
      run: "12345678-0000-4000-8000-000000000000",
    };
    const text = read(<Notifications />, { [receivers]: [board], [notices]: [notice], [session]: as("viewer") });
    expect(text).toContain("run 12345678 falls behind");
    expect(text).toContain("Open the run");
  });

  it("have quiet hours in words", () => {
    expect(quietText([])).toBe("—");
    expect(quietText([{ days: "sat,sun" }])).toBe("sat,sun");
  });
});
