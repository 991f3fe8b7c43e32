import type { UiSchema } from "@rjsf/utils";
import { answered, client, type Schemas } from "../api/client";

type Json = Record<string, unknown>;

/** What can be made and changed by a form: its schema in the contract, and how it is fetched, stored and deleted. */
export type Kind = {
  one: string; // as it is called in a sentence
  schema: string;
  list: string; // the key of the query that its change makes stale
  lead: string;
  first: string[]; // what is asked at once; the rest folds away
  ui?: UiSchema;
  secrets?: string[];
  fresh: Json; // what a new one begins with
  named: string[]; // where its name stands
  get: (name: string) => Promise<Json | undefined>;
  put: (name: string, value: Json) => Promise<unknown>;
  remove?: (name: string) => Promise<unknown>;
  home: string; // the page that lists them
  paged?: boolean; // each has a page of its own below that
};

/** What one of a kind is called. */
export const nameOf = (kind: Kind, value: Json) =>
  String(kind.named.reduce<unknown>((v, part) => (v as Json | undefined)?.[part], value) ?? "");

/** The one of a list with a name. */
const among = async <T>(list: Promise<{ items: T[] }>, is: (x: T) => boolean) => (await list).items.find(is);

const path = <K extends string>(name: K, value: string) => ({
  params: { path: { [name]: value } as Record<K, string> },
});

export const kinds = {
  hosts: {
    one: "host",
    schema: "HostSpec",
    list: "hosts",
    lead: "A machine of your own: what is in it, when it may render, what its power costs. An agent that joins from it fills in what it finds.",
    first: ["note", "open"],
    ui: { devices: { items: { "ui:first": ["backends"] } }, cpu: { "ui:first": ["threads"] } },
    fresh: {},
    named: ["name"],
    get: async (name) => (await answered(client.GET("/hosts/{host}", path("host", name)))).spec,
    put: (name, v) => answered(client.PUT("/hosts/{host}", { ...path("host", name), body: v as Schemas["HostSpec"] })),
    remove: (name) => answered(client.DELETE("/hosts/{host}", path("host", name))),
    home: "/hosts",
    paged: true,
  },
  shots: {
    one: "shot",
    schema: "ShotSpec",
    list: "shots",
    lead: "A scene, its frames, their size, the renderer and its settings. Runs that stand keep the description they began with.",
    first: ["title", "deadline", "settings", "devices"],
    ui: { passes: { items: { "ui:first": ["after", "launcher", "devices", "settings"] } } },
    fresh: { width: 1920, height: 1080 },
    named: ["name"],
    get: async (name) => (await answered(client.GET("/shots/{shot}", path("shot", name)))).spec,
    put: (name, v) => answered(client.PUT("/shots/{shot}", { ...path("shot", name), body: v as Schemas["ShotSpec"] })),
    remove: (name) => answered(client.DELETE("/shots/{shot}", path("shot", name))),
    home: "/shots",
    paged: true,
  },
  sources: {
    one: "source",
    schema: "NewSource",
    list: "sources",
    lead: "Where hosts come from that are not your own: servers that can be rented, or a farm. Its offers or tiers are made next.",
    first: ["spec", "secret"],
    ui: {
      spec: { "ui:bare": true, "ui:first": ["note", "address", "cap"], card: { "ui:first": ["tax"] } },
      secret: { "ui:widget": "password", "ui:wide": true },
    },
    secrets: ["secret"],
    fresh: {},
    named: ["spec", "name"],
    get: async (name) => {
      const found = await among(answered(client.GET("/sources")), (s) => s.spec.name === name);
      return found && { spec: found.spec };
    },
    put: (name, v) =>
      answered(client.PUT("/sources/{source}", { ...path("source", name), body: v as Schemas["NewSource"] })),
    remove: (name) => answered(client.DELETE("/sources/{source}", path("source", name))),
    home: "/sources",
  },
  offers: {
    one: "offer",
    schema: "OfferSpec",
    list: "offers",
    lead: "A kind of server that a source lets, with its price in the currency of the source's rate card.",
    first: ["launchers", "minimum_s", "devices"],
    ui: { devices: { items: { "ui:first": ["backends"] } }, cpu: { "ui:first": ["threads"] } },
    fresh: {},
    named: ["name"],
    get: async (name) =>
      (await among(answered(client.GET("/offers", { params: { query: { limit: 500 } } })), (o) => o.spec.name === name))
        ?.spec,
    put: (name, v) =>
      answered(client.PUT("/offers/{offer}", { ...path("offer", name), body: v as Schemas["OfferSpec"] })),
    home: "/sources",
  },
  farms: {
    one: "farm tier",
    schema: "Farm",
    list: "farms",
    lead: "A tier of a render farm: how many nodes, how long until the first frame, and how it bills, in the currency of its source's rate card.",
    first: ["launchers", "devices"],
    ui: { devices: { items: { "ui:first": ["backends"] } }, cpu: { "ui:first": ["mhz"] } },
    fresh: {},
    named: ["name"],
    get: (name) => among(answered(client.GET("/farms")), (f) => f.name === name),
    put: (name, v) => answered(client.PUT("/farms/{farm}", { ...path("farm", name), body: v as Schemas["Farm"] })),
    home: "/sources",
  },
  licences: {
    one: "licence pool",
    schema: "Licence",
    list: "licences",
    lead: "Seats of a renderer's licence. A shot that names the pool holds one for each running renderer; no more run at once than there are.",
    first: ["extra_seats", "extra_seat_price"],
    fresh: {},
    named: ["pool"],
    get: (name) => among(answered(client.GET("/licences")), (l) => l.pool === name),
    put: (name, v) =>
      answered(client.PUT("/licences/{pool}", { ...path("pool", name), body: v as Schemas["Licence"] })),
    home: "/sources",
  },
} satisfies Record<string, Kind>;

export type KindName = keyof typeof kinds;
