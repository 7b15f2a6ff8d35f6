import { cleanup, render, screen } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import type { Schemas } from "../../api/client";
import { SecretFields, secretOf } from "./SecretFields";
import { Steps } from "./Steps";

afterEach(cleanup);

const protocols = { auth: ["md5", "sha256"], priv: ["des", "aes128"] };
const stored = { kind: "v3", user: "anna", auth: "sha256", priv: "aes128" } as Schemas["CredentialOut"];
const input = (name: string) => screen.getByLabelText(name, { exact: false }) as HTMLInputElement;

describe("steps of a trial", () => {
  it("say how they went without colour, and how long they took", () => {
    render(
      <Steps
        steps={[
          { title: "ICMP echo", went: "well", words: "answers after 0.6 ms", at_ms: 0, took_ms: 0.62 },
          { title: "Core", went: "wrong", words: "no answer", at_ms: 1, took_ms: 2003.4 },
          { title: "SNMP", went: "note", words: "no credential was tried", at_ms: 2, took_ms: 0 },
        ]}
      />,
    );
    const [echo, core, note] = screen.getAllByRole("listitem");
    expect(echo?.textContent).toBe("✓wellICMP echoanswers after 0.6 ms0.6ms");
    expect(core?.textContent).toBe("✕wrongCoreno answer2003ms");
    expect(note?.textContent).toBe("·noteSNMPno credential was tried");
  });
});

describe("the fields of a secret", () => {
  it("ask for a community in version 1 and 2c, and for a user in version 3", () => {
    const { rerender } = render(<SecretFields kind="v2c" onKind={vi.fn()} protocols={protocols} />);
    expect(input("Community").type).toBe("password");
    expect(input("Community").required).toBe(true);
    rerender(<SecretFields kind="v3" onKind={vi.fn()} protocols={protocols} />);
    expect(input("User").required).toBe(true);
    expect(screen.queryByLabelText("Community")).toBeNull();
    expect(screen.getAllByRole("option").map((option) => option.textContent)).toEqual([
      "none",
      "md5",
      "sha256",
      "none",
      "des",
      "aes128",
    ]);
  });

  it("never show what is stored, and need not be filled in again", () => {
    const { rerender } = render(<SecretFields kind="v3" onKind={vi.fn()} protocols={protocols} stored={stored} />);
    expect(input("User").value).toBe("anna");
    expect(input("Authentication password").value).toBe("");
    expect(input("Authentication password").placeholder).toBe("stays as it is");
    rerender(<SecretFields kind="v2c" onKind={vi.fn()} protocols={protocols} stored={stored} />);
    expect(input("Community").required).toBe(true);
  });

  it("become what the API wants, without what belongs to another version", () => {
    const form = new FormData();
    for (const name of ["user", "auth", "auth_password", "priv", "priv_password", "community"]) form.set(name, name);
    expect(secretOf(form, "v1")).toEqual({ community: "community" });
    expect(Object.keys(secretOf(form, "v3"))).toEqual(["user", "auth", "auth_password", "priv", "priv_password"]);
    expect(secretOf(new FormData(), "v2c")).toEqual({ community: "" });
  });
});
