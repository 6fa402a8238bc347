import type { EmblemDesign } from "./emblem";
import { useEmblems } from "./useCustomers";

/** The customer's mark; the name always stands beside it, so it says nothing to a screen reader. */
export function Emblem({ customer, size = 18 }: { customer: string; size?: number }) {
  return <Flag design={useEmblems()(customer)} size={size} />;
}

export function Flag({ design, size = 18 }: { design: EmblemDesign; size?: number }) {
  const { pattern, field, charge } = design;
  return (
    <svg width={size} height={size} viewBox="0 0 18 18" aria-hidden="true">
      <rect width="18" height="18" rx="2" fill={field} />
      {pattern === "halves" && <path d="M9 0h7a2 2 0 0 1 2 2v14a2 2 0 0 1-2 2H9z" fill={charge} />}
      {pattern === "bands" && <path d="M0 6h18v6H0z" fill={charge} />}
      {pattern === "quarters" && <path d="M9 0h7a2 2 0 0 1 2 2v7H9zM0 9h9v9H2a2 2 0 0 1-2-2z" fill={charge} />}
      {pattern === "cross" && <path d="M7 0h4v7h7v4h-7v7H7v-7H0V7h7z" fill={charge} />}
      {pattern === "saltire" && <path d="M1 1l16 16M17 1L1 17" stroke={charge} strokeWidth="3.4" />}
      {pattern === "border" && <rect x="4.5" y="4.5" width="9" height="9" fill={charge} />}
      {pattern === "disc" && <circle cx="9" cy="9" r="4.6" fill={charge} />}
    </svg>
  );
}
