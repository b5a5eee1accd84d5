import type { ReactNode } from "react";

import type { Role } from "../../api/types";
import { SelectField } from "../../ui/Field";
import { ROLES } from "../session";

/** Role of a person or a token. */
export function RoleField({ value, onChange }: { value: Role; onChange: (role: Role) => void }): ReactNode {
  return (
    <SelectField
      label="Role"
      value={value}
      onChange={(event) => onChange(event.target.value as Role)}
      choices={ROLES.map((role) => ({ value: role.value, label: `${role.label}: ${role.help}` }))}
    />
  );
}
