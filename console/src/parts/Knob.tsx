import { Flex, Slider, Text } from "@chakra-ui/react";

/** A value that is turned. */
export function Knob({
  label,
  value,
  min,
  max,
  step,
  text,
  onChange,
}: {
  label: string;
  value: number;
  min: number;
  max: number;
  step: number;
  text: string;
  onChange: (value: number) => void;
}) {
  return (
    <Slider.Root
      flex="1"
      value={[value]}
      min={min}
      max={max}
      step={step}
      aria-label={[label]}
      onValueChange={(e) => onChange(e.value[0] ?? value)}
    >
      <Flex justify="space-between" fontSize="sm">
        <Slider.Label>{label}</Slider.Label>
        <Text color="fg.muted">{text}</Text>
      </Flex>
      <Slider.Control>
        <Slider.Track bg="waiting">
          <Slider.Range bg="brass.solid" />
        </Slider.Track>
        <Slider.Thumb index={0} borderColor="brass.solid" />
      </Slider.Control>
    </Slider.Root>
  );
}
