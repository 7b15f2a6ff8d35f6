import { act, cleanup, fireEvent, render } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { useKeys, useRowKeys } from "./keys";
import { setSingleKeys } from "./shortcuts";

function Keyed({ onPress }: { onPress: () => void }) {
  useKeys({ n: onPress });
  useRowKeys();
  return (
    <div>
      <input aria-label="words" />
      {["one", "two", "three"].map((name) => (
        <a key={name} href={`#${name}`} data-row>
          {name}
        </a>
      ))}
    </div>
  );
}

afterEach(cleanup);

describe("keys", () => {
  it("act on the screen but not while somebody types", () => {
    const press = vi.fn();
    const { getByLabelText } = render(<Keyed onPress={press} />);
    fireEvent.keyDown(document.body, { key: "n" });
    expect(press).toHaveBeenCalledTimes(1);
    fireEvent.keyDown(getByLabelText("words"), { key: "n" });
    fireEvent.keyDown(document.body, { key: "n", ctrlKey: true });
    expect(press).toHaveBeenCalledTimes(1);
  });

  it("of one character can be switched off, others stay", () => {
    const press = vi.fn();
    const { unmount } = render(<Keyed onPress={press} />);
    act(() => setSingleKeys(false));
    fireEvent.keyDown(document.body, { key: "n" });
    expect(press).not.toHaveBeenCalled();
    act(() => setSingleKeys(true));
    fireEvent.keyDown(document.body, { key: "n" });
    expect(press).toHaveBeenCalledTimes(1);
    unmount();
  });

  it("walk through the rows and stop at the ends", () => {
    Element.prototype.scrollIntoView = () => {};
    render(<Keyed onPress={() => {}} />);
    const press = (key: string) => {
      fireEvent.keyDown(document.activeElement ?? document.body, { key });
      return document.activeElement?.textContent;
    };
    expect(["j", "j", "j", "j", "k"].map(press)).toEqual(["one", "two", "three", "three", "two"]);
  });
});
