import type { CustomerInfo, OwnFieldInfo } from "../api/types";

/** The own fields that all of these customers have, by name and kind; choices are those that each of them knows. */
export function sharedFields(customers: CustomerInfo[], names: ReadonlySet<string>): OwnFieldInfo[] {
  const theirs = customers.filter((c) => names.has(c.name));
  const [first, ...others] = theirs;
  if (!first || theirs.length < names.size) return [];
  return first.fields.flatMap((field) => {
    const same = others.map((c) =>
      c.fields.find((f) => f.name.toLowerCase() === field.name.toLowerCase() && f.kind === field.kind),
    );
    if (same.includes(undefined)) return [];
    return [{ ...field, choices: field.choices.filter((c) => same.every((f) => f?.choices.includes(c))) }];
  });
}
