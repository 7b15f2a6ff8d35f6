const ROLES = ["wan", "uplink", "trunk", "tunnel", "aggregate", "access", "storage", "management", "unused"];

/** Roles to choose from; "any" is no choice. */
export const ROLE_CHOICES = [["any", "any"], ...ROLES.map((role) => [role, role] as const)] as const;
