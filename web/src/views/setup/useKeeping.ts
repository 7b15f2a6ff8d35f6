import { type QueryKey, useMutation, useQueryClient } from "@tanstack/react-query";
import type { FormEvent } from "react";

type Keeping = {
  /** What to ask again afterwards; nothing for everything. */
  listed?: QueryKey;
  save: () => Promise<unknown>;
  /** Of what is kept already. */
  remove?: (() => Promise<unknown>) | undefined;
  onDone: () => void;
};

/** Keeping or deleting what a form is about; then the form closes. What the form and its foot need for that. */
export function useKeeping({ listed, save, remove, onDone }: Keeping) {
  const queries = useQueryClient();
  const onSuccess = () => {
    void queries.invalidateQueries(listed ? { queryKey: listed } : {});
    onDone();
  };
  const saving = useMutation({ mutationFn: save, onSuccess });
  const removing = useMutation({ mutationFn: async () => remove?.(), onSuccess });
  return {
    submit: (event: FormEvent) => {
      event.preventDefault();
      saving.mutate();
    },
    foot: {
      problem: saving.error?.message ?? removing.error?.message,
      isBusy: saving.isPending,
      onLeave: onDone,
      onDelete: remove && (() => removing.mutate()),
    },
  };
}
