import { useSession } from "../api/queries";

/** Whether who is signed in may change things. */
export function useMayWrite(): boolean {
  const role = useSession().data?.role;
  return role === "operator" || role === "admin";
}
