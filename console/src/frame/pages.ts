import {
  Boxes,
  ClipboardCheck,
  Disc3,
  FileText,
  Hammer,
  History,
  LayoutDashboard,
  ListChecks,
  type LucideIcon,
  Network,
  PackageOpen,
  Radar,
  Send,
  Rows3,
  Server,
  Settings2,
  SquareMenu,
  Stethoscope,
  Tag,
} from "lucide-react";

/** A page that the navigation leads to. */
export interface Page {
  path: string;
  name: string;
  icon: LucideIcon;
}

/** The navigation: four groups, in the order in which people come to them. */
export const GROUPS: { name: string; pages: Page[] }[] = [
  {
    name: "Work",
    pages: [
      { path: "/", name: "Overview", icon: LayoutDashboard },
      { path: "/machines", name: "Machines", icon: Server },
      { path: "/installs", name: "Installs", icon: ListChecks },
      { path: "/jobs", name: "Jobs", icon: Hammer },
      { path: "/racks", name: "Racks", icon: Rows3 },
    ],
  },
  {
    name: "Content",
    pages: [
      { path: "/images", name: "Images", icon: Disc3 },
      { path: "/answers", name: "Answers", icon: FileText },
      { path: "/menus", name: "Menus", icon: SquareMenu },
      { path: "/labels", name: "Labels", icon: Tag },
      { path: "/rules", name: "Rules", icon: ClipboardCheck },
      { path: "/loaders", name: "Loaders", icon: PackageOpen },
    ],
  },
  {
    name: "Network",
    pages: [
      { path: "/subnets", name: "Subnets", icon: Network },
      { path: "/newcomers", name: "Newcomers", icon: Radar },
      { path: "/check", name: "Check", icon: Stethoscope },
    ],
  },
  {
    name: "Record",
    pages: [
      { path: "/history", name: "History", icon: History },
      { path: "/webhooks", name: "Webhooks", icon: Send },
      { path: "/exports", name: "Exports", icon: Boxes },
    ],
  },
];

/** What stands apart, at the bottom. */
export const SETTINGS: Page = { path: "/settings", name: "Settings", icon: Settings2 };

/** What can be done from anywhere, beside going to a page. */
export const ACTIONS: { path: string; name: string }[] = [
  { path: "/new-machine", name: "Add a machine" },
  { path: "/import-machines", name: "Import machines from CSV" },
  { path: "/arm", name: "Arm installs" },
  { path: "/naming", name: "Name machines by pattern" },
  { path: "/import", name: "Import an image" },
  { path: "/new-subnet", name: "Add a subnet" },
  { path: "/rules/new", name: "Add a rule" },
];
