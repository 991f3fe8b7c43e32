import { Knob } from "./Knob";

/** How far light can be turned up and down, in stops. */
const mostStops = 8;

/** How much brighter or darker a picture is looked at. */
export function Exposure({ stops, onChange }: { stops: number; onChange: (stops: number) => void }) {
  return (
    <Knob
      label="Exposure"
      value={stops}
      min={-mostStops}
      max={mostStops}
      step={0.5}
      onChange={onChange}
      text={stops === 0 ? "as rendered" : `${stops > 0 ? "+" : "−"}${Math.abs(stops)} stops`}
    />
  );
}
