import { useState, type ReactNode } from "react";

import { useNavigate } from "react-router";

import type { Role } from "../../api/types";
import { keepTheme, keptTheme, type ThemeChoice } from "../../lib/theme";
import { Menu, MenuChoice, MenuItem, MenuRule } from "../../ui/Menu";
import { useSignOut } from "./queries";

const THEMES = [
  { value: "system", label: "Like the system" },
  { value: "paper", label: "Paper" },
  { value: "night", label: "Night" },
] as const;

/** Signed-in person, theme, and sign-out. */
export function PersonMenu({ person, role }: { person: string; role: Role }): ReactNode {
  const navigate = useNavigate();
  const [theme, setTheme] = useState<ThemeChoice>(keptTheme);
  const signOut = useSignOut();
  const change = (choice: ThemeChoice) => {
    setTheme(choice);
    keepTheme(choice);
  };
  const trigger = (
    <button type="button" className="flex items-center gap-1.5 rounded-md px-2 py-1.5 text-quiet hover:text-ink">
      <span className="max-w-28 truncate">{person}</span>
      <svg width="10" height="10" viewBox="0 0 10 10" aria-hidden="true">
        <path d="M2 3.5 L5 6.5 L8 3.5" className="fill-none stroke-current stroke-[1.6]" strokeLinecap="round" />
      </svg>
    </button>
  );
  return (
    <Menu trigger={trigger}>
      <p className="px-3 pb-1 text-xs text-quiet">
        {person}, {role}
      </p>
      <MenuItem onSelect={() => void navigate("/settings/account")}>Password and sessions</MenuItem>
      <MenuRule />
      <MenuChoice label="Appearance" value={theme} choices={THEMES} onChange={change} />
      <MenuRule />
      <MenuItem onSelect={() => signOut.mutate()}>Sign out</MenuItem>
    </Menu>
  );
}
