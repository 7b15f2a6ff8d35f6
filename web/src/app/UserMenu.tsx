import { useMutation, useQueryClient } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import { useNavigate } from "react-router";
import { client, got } from "../api/client";
import { sessionQuery } from "../api/queries";
import { setTheme, useTheme } from "../components/theme";
import { setSound, useSound } from "./sound";

const ITEM = "px-3 py-1.5 outline-none data-[highlighted]:bg-lampsoft cursor-pointer";

/** Who is signed in; theme, keys and sign-out. */
export function UserMenu({ user, onKeys }: { user: string; onKeys: () => void }) {
  const theme = useTheme();
  const sound = useSound();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const leave = useMutation({
    mutationFn: () => got(client.DELETE("/api/v1/session", {})),
    onSuccess: (session) => {
      queries.setQueryData(sessionQuery.queryKey, session);
      queries.removeQueries({ predicate: (query) => query.queryKey[0] !== sessionQuery.queryKey[0] });
    },
  });
  const other = theme === "dark" ? "light" : "dark";
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="ml-3 text-ink2 hover:text-ink">{user}</DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={6}
          className="z-20 min-w-36 border border-ink bg-sheet py-1 shadow-lg"
        >
          <DropdownMenu.Item className={ITEM} onSelect={() => navigate("/setup/account")}>
            My account
          </DropdownMenu.Item>
          <DropdownMenu.Item className={ITEM} onSelect={() => setTheme(other)}>
            Use the {other} theme
          </DropdownMenu.Item>
          <DropdownMenu.Item className={ITEM} onSelect={() => setSound(!sound)}>
            {sound ? "No sound for new alarms" : "Sound for new alarms"}
          </DropdownMenu.Item>
          <DropdownMenu.Item className={ITEM} onSelect={() => navigate("/wall")}>
            Wall display
          </DropdownMenu.Item>
          <DropdownMenu.Item className={ITEM} onSelect={onKeys}>
            Keys
          </DropdownMenu.Item>
          <DropdownMenu.Item className={ITEM} onSelect={() => leave.mutate()}>
            Sign out
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
