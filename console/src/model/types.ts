// The types of the service's answers, generated from its OpenAPI description.
import type { components } from "./api.gen";

type Schemas = components["schemas"];

export type Phrase = Schemas["Phrase"];
export type SectionView = Schemas["SectionView"];
export type SectionNode = Schemas["Node"];
export type NodeFigures = Schemas["NodeFigures"];
export type Strata = Schemas["Strata"];
export type Direction = Schemas["Direction"];
export type Band = Schemas["Band"];
export type Suspects = Schemas["Suspects"];
export type Tenant = Schemas["Tenant"];
export type Trace = Schemas["Trace"];
export type Found = Schemas["Found"];
export type Brief = Schemas["Brief"];
export type Overview = Schemas["Overview"];
export type Identity = Schemas["Identity"];
export type Detail = Schemas["Detail"];
export type Problem = Schemas["ErrorModel"];
export type SourceInfo = Schemas["SourceInfo"];
export type SourceSpec = Schemas["SourceSpec"];
export type SourceChange = Schemas["SourceChange"];
export type Probed = Schemas["Probed"];
export type ProbeStep = Schemas["Step"];
export type Joined = Schemas["Joined"];
export type Inventory = Schemas["Inventory"];
export type Column = Schemas["Column"];
export type Changes = Schemas["Changes"];
export type Reach = Schemas["Reach"];
export type ReachedVM = Schemas["ReachedVM"];
export type Unresolved = Schemas["UnresolvedList"];
export type HardwarePart = Schemas["HardwarePart"];
export type Row = (number | null)[];
