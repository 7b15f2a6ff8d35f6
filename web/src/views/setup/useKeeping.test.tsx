import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { act, cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { FormFoot } from "../../components/FormFoot";
import { useKeeping } from "./useKeeping";

afterEach(cleanup);

type Props = Parameters<typeof useKeeping>[0];

function Form(props: Props) {
  const { submit, foot } = useKeeping(props);
  return (
    <form onSubmit={submit}>
      <FormFoot {...foot} />
    </form>
  );
}

function show(props: Props) {
  render(
    <QueryClientProvider client={new QueryClient()}>
      <Form {...props} />
    </QueryClientProvider>,
  );
}

describe("a form that keeps something", () => {
  it("closes once it is kept", async () => {
    const done = vi.fn();
    show({ save: () => Promise.resolve(), onDone: done });
    expect(screen.queryByText("Delete")).toBeNull();
    fireEvent.click(screen.getByText("Save"));
    await waitFor(() => expect(done).toHaveBeenCalledOnce());
  });

  it("stays open, and says why, if it is refused", async () => {
    const done = vi.fn();
    show({ save: () => Promise.reject(new Error("There is one already.")), onDone: done });
    fireEvent.click(screen.getByText("Save"));
    await screen.findByText("There is one already.");
    expect(done).not.toHaveBeenCalled();
    act(() => screen.getByText("Cancel").click());
    expect(done).toHaveBeenCalledOnce();
  });

  it("deletes what was kept before", async () => {
    const [done, remove] = [vi.fn(), vi.fn(() => Promise.resolve())];
    show({ save: () => Promise.reject(new Error("no")), remove, onDone: done });
    fireEvent.click(screen.getByText("Delete"));
    await waitFor(() => expect(done).toHaveBeenCalledOnce());
    expect(remove).toHaveBeenCalledOnce();
  });
});
