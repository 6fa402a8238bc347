import { Combobox, TextInput, useCombobox } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { api, ask } from "../api/client";

/** A field for words or a selection, with completion by the service. Enter or a pause takes over what is typed. */
export function SelectionField({
  value,
  onChange,
  label,
  placeholder,
  problem,
  description,
}: {
  value: string;
  onChange: (text: string) => void;
  label: string;
  placeholder: string;
  problem?: string | undefined;
  description?: string | undefined;
}) {
  // Kept here: the address follows a moment later, and letters typed quickly would be lost.
  const [typed, setTyped] = useState(value);
  const [told, setTold] = useState(value);
  const [cursor, setCursor] = useState(value.length);
  const input = useRef<HTMLInputElement>(null);
  if (value !== told) {
    setTold(value);
    setTyped(value);
  }
  const combobox = useCombobox({ onDropdownClose: () => combobox.resetSelectedOption() });
  const open = combobox.dropdownOpened;
  const completions = useQuery({
    queryKey: ["completions", typed, cursor],
    queryFn: () => ask(api.GET("/api/v1/selections/completions", { params: { query: { text: typed, cursor } } })),
    enabled: open,
    staleTime: 10_000,
    placeholderData: (before) => before,
  });
  useEffect(() => {
    if (typed === told) return;
    const timer = setTimeout(() => {
      setTold(typed);
      onChange(typed.trim());
    }, 350);
    return () => clearTimeout(timer);
  }, [typed, told, onChange]);

  /** What is typed counts now, not only after a pause: whoever leaves the field acts on it. */
  const settle = () => {
    combobox.closeDropdown();
    if (typed === told) return;
    setTold(typed);
    onChange(typed.trim());
  };
  const at = () => setCursor(input.current?.selectionStart ?? typed.length);
  const go = (text: string) => {
    const piece = completions.data;
    if (!piece) return;
    const next = `${typed.slice(0, piece.from)}${text} ${typed.slice(piece.to)}`;
    setTyped(next);
    const end = piece.from + text.length + 1;
    setCursor(end);
    requestAnimationFrame(() => input.current?.setSelectionRange(end, end));
    combobox.resetSelectedOption();
  };
  const items = completions.data?.items ?? [];

  return (
    <Combobox store={combobox} onOptionSubmit={go} position="bottom-start" withinPortal shadow="md">
      <Combobox.Target>
        <TextInput
          ref={input}
          aria-label={label}
          placeholder={placeholder}
          classNames={{ input: "mono" }}
          value={typed}
          error={problem}
          description={description}
          spellCheck={false}
          autoComplete="off"
          autoCapitalize="off"
          onChange={(e) => {
            setTyped(e.currentTarget.value);
            setCursor(e.currentTarget.selectionStart ?? e.currentTarget.value.length);
            combobox.openDropdown();
          }}
          onClick={() => {
            at();
            combobox.openDropdown();
          }}
          onKeyUp={at}
          onBlur={settle}
          onKeyDown={(e) => {
            if (e.key === "Escape") combobox.closeDropdown();
            if (e.key === "Enter" && combobox.getSelectedOptionIndex() < 0) settle();
            if (e.key === "ArrowDown" && !open) combobox.openDropdown();
          }}
        />
      </Combobox.Target>
      <Combobox.Dropdown hidden={items.length === 0}>
        <Combobox.Options mah={320} style={{ overflowY: "auto" }} aria-label="How it can go on">
          {items.map((item) => (
            <Combobox.Option key={item.text} value={item.text} className="completion">
              <span className="mono">{item.text}</span>
              <span className="muted">{item.says}</span>
            </Combobox.Option>
          ))}
        </Combobox.Options>
      </Combobox.Dropdown>
    </Combobox>
  );
}
