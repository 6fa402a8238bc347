import { useEffect, useState } from "react";
import { exact, span } from "./time";

/** The present moment, renewed as often as a relative time needs it. */
export function useNow(everyMs = 5000): number {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), everyMs);
    return () => clearInterval(timer);
  }, [everyMs]);
  return now;
}

/** How long ago, with the exact time on hover and focus. */
export function Ago({ time, suffix = " ago" }: { time: string; suffix?: string }) {
  const now = useNow();
  return (
    <time dateTime={time} title={exact(time)}>
      {span(now - Date.parse(time))}
      {suffix}
    </time>
  );
}
