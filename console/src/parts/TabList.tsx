import { Tabs } from "@chakra-ui/react";

/** The tabs above what they show. */
export const TabList = ({ views }: { views: { value: string; label: string }[] }) => (
  <Tabs.List mb="6" borderColor="line">
    {views.map((v) => (
      <Tabs.Trigger key={v.value} value={v.value} color="fg.muted" _selected={{ color: "brass.fg", fontWeight: 600 }}>
        {v.label}
      </Tabs.Trigger>
    ))}
  </Tabs.List>
);
