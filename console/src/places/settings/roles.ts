/** The roles, with what each may do beside what the ones before it may. */
export const ROLES = [
  { value: "viewer", label: "viewer: sees everything of the place" },
  { value: "submitter", label: "submitter: submits and cancels jobs" },
  { value: "operator", label: "operator: manages pools, runners, machines, teams" },
  { value: "admin", label: "admin: manages people, tokens, suppliers, subscribers" },
];
