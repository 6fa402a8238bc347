import { Button, Checkbox, Popover } from "@mantine/core";
import { columnOf, columns, usualColumns } from "./columns";

/** Which columns, and in which order: kept for the technician. */
export function ColumnMenu({ shown, onChange }: { shown: string[]; onChange: (ids: string[]) => void }) {
  const move = (id: string, step: number) => {
    const next = shown.filter((c) => c !== id);
    next.splice(shown.indexOf(id) + step, 0, id);
    onChange(next);
  };
  const others = columns.filter((c) => !shown.includes(c.id));
  return (
    <Popover position="bottom-end" shadow="md" trapFocus>
      <Popover.Target>
        <Button variant="default" size="sm">
          Columns
        </Button>
      </Popover.Target>
      <Popover.Dropdown className="column-menu">
        <div role="group" aria-label="Columns shown, in order">
          {shown.map((id, i) => {
            const title = columnOf(id)?.title ?? id;
            return (
              <div key={id} className="column-line">
                <Checkbox
                  size="sm"
                  label={title}
                  checked
                  disabled={shown.length === 1}
                  title={shown.length === 1 ? "One column stays" : undefined}
                  onChange={() => onChange(shown.filter((c) => c !== id))}
                />
                <Button
                  size="compact-sm"
                  variant="subtle"
                  color="gray"
                  disabled={i === 0}
                  title={i === 0 ? `${title} is first` : `${title} further left`}
                  aria-label={`${title} further left`}
                  onClick={() => move(id, -1)}
                >
                  ↑
                </Button>
                <Button
                  size="compact-sm"
                  variant="subtle"
                  color="gray"
                  disabled={i === shown.length - 1}
                  title={i === shown.length - 1 ? `${title} is last` : `${title} further right`}
                  aria-label={`${title} further right`}
                  onClick={() => move(id, 1)}
                >
                  ↓
                </Button>
              </div>
            );
          })}
        </div>
        <div role="group" aria-label="More columns" className="column-more">
          {others.map((c) => (
            <Checkbox
              key={c.id}
              size="sm"
              label={c.title}
              checked={false}
              onChange={() => onChange([...shown, c.id])}
            />
          ))}
        </div>
        <Button size="compact-sm" variant="subtle" color="gray" onClick={() => onChange(usualColumns)}>
          The usual ones
        </Button>
      </Popover.Dropdown>
    </Popover>
  );
}
