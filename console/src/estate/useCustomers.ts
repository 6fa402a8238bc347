import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { api, ask } from "../api/client";
import type { CustomerInfo } from "../api/types";
import { customerOf, emblemOf, type EmblemDesign } from "./emblem";

/** Customers with what is kept of them; asked for again now and then, for others edit them too. */
export function useCustomers(): CustomerInfo[] {
  const query = useQuery({
    queryKey: ["customers"],
    queryFn: async () => (await ask(api.GET("/api/v1/customers"))).items as CustomerInfo[],
    staleTime: 60_000,
    refetchInterval: 60_000,
  });
  return query.data ?? none;
}

const none: CustomerInfo[] = [];

/** How the customer of a group path (or of that name) is marked. */
export function useEmblems(): (path: string) => EmblemDesign {
  const customers = useCustomers();
  return useMemo(() => designer(customers), [customers]);
}

/** One design for each customer, always the same object, so that what shows it need not be drawn anew. */
function designer(customers: CustomerInfo[]): (path: string) => EmblemDesign {
  const designs = new Map(customers.map((c) => [c.name, emblemOf(c.name, c)]));
  return (path) => {
    const name = customerOf(path);
    const design = designs.get(name) ?? emblemOf(name);
    designs.set(name, design);
    return design;
  };
}
