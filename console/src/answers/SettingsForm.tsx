import { useId } from "react";

import { ChoiceField, type Form, Group, ListField, LongField, PasswordField, TextField, YesNoField } from "./Fields";
import { Listed, Named } from "./Named";
import { at, type Path, put } from "./draft";

const SUDO = { no: "no", password: "after the own password", "no-password": "without being asked" };
const FILE_SYSTEMS = { ext4: "ext4", xfs: "XFS", btrfs: "Btrfs", vfat: "FAT", ntfs: "NTFS" };
const BOND_MODES = {
  "active-backup": "one works, the others stand by",
  "802.3ad": "LACP",
  "balance-rr": "in turns",
  "balance-xor": "by a hash",
};
/** Where a text of one's own may stand in a file, by its format. */
const PLACES: Record<string, string[]> = {
  preseed: ["top", "disks", "end"],
  kickstart: ["commands", "packages", "pre", "post", "end"],
  autoinstall: ["autoinstall", "user_data"],
  "cloud-config": ["user_data"],
  "unattended-xml": ["windows_pe", "offline_servicing", "specialize", "oobe_system"],
};

/** The settings, as a form that follows them. An empty field shows what it would be without it. */
export function SettingsForm({ form, answers }: { form: Form; answers: boolean }) {
  const says = (...keys: string[]) => keys.some((key) => at(form.draft, [key]) !== undefined);
  const field = (path: Path, label: string, hint?: string) => ({ form, path, label, hint });
  return (
    <div aria-label="Settings">
      <Group title="Language, clock, name" says>
        {answers && <ListField {...field(["images"], "Meant for images", "tidewrack-12")} />}
        <TextField {...field(["locale"], "Locale", "en_GB.UTF-8")} />
        <TextField {...field(["keyboard"], "Keyboard", "gb")} />
        <TextField {...field(["time_zone"], "Time zone", "Europe/London")} />
        <ListField {...field(["ntp"], "Time servers")} />
        <TextField {...field(["host_name"], "Host name", "the machine's name")} />
        <TextField {...field(["domain"], "Domain", "the subnet's")} />
        <TextField {...field(["proxy"], "Proxy")} />
        <ChoiceField {...field(["at_end"], "At the end")} choices={{ restart: "restart", "power-off": "power off" }} />
      </Group>
      <Group title="Users" says={says("users", "root")}>
        <PasswordField {...field(["root", "password"], "Root's password")} />
        <ListField {...field(["root", "ssh_keys"], "Root's SSH keys")} />
        <Named form={form} path={["users"]} what="user" fresh={{ sudo: "no" }}>
          {(name, path) => (
            <>
              <TextField {...field([...path, "full_name"], "Full name", name)} />
              <PasswordField {...field([...path, "password"], "Password")} />
              <ChoiceField {...field([...path, "sudo"], "Becomes root")} choices={SUDO} />
              <ListField {...field([...path, "ssh_keys"], "SSH keys")} />
              <ListField {...field([...path, "groups"], "Groups")} />
            </>
          )}
        </Named>
      </Group>
      <Group title="Disks" says={says("storage")}>
        <ChoiceField
          {...field(["storage", "layout"], "Divided into")}
          choices={{ plain: "partitions", lvm: "logical volumes" }}
        />
        <ChoiceField {...field(["storage", "boot_mode"], "Boots by")} choices={{ uefi: "UEFI", bios: "BIOS" }} />
        <YesNoField {...field(["storage", "mirror"], "RAID 1")} />
        <PasswordField {...field(["storage", "encrypt"], "Encrypted by")} passphrase />
        <TextField {...field(["storage", "volume_group"], "Volume group", "system")} />
        <Named form={form} path={["storage", "disks"]} what="disk" fresh={{ size: "smallest" }}>
          {(_, path) => <DiskFields form={form} path={path} />}
        </Named>
        <Listed form={form} path={["storage", "volumes"]} what="volume" fresh={{ mount: "/", size: "rest" }}>
          {(path) => (
            <>
              <TextField {...field([...path, "mount"], "Mounted at", "/")} />
              <TextField {...field([...path, "size"], "Size", "20G, or rest")} />
              <ChoiceField {...field([...path, "file_system"], "File system")} choices={FILE_SYSTEMS} />
              <TextField {...field([...path, "disk"], "On disk", "where there are several")} />
            </>
          )}
        </Listed>
        <Listed form={form} path={["storage", "never"]} what="disk never touched" fresh={{ serial: "*" }}>
          {(path) => <DiskFields form={form} path={path} />}
        </Listed>
      </Group>
      <Group title="Network" says={says("network")}>
        <ListField {...field(["network", "dns"], "Name servers", "as DHCP says")} />
        <Named form={form} path={["network", "interfaces"]} what="interface" fresh={{ addresses: ["dhcp"] }}>
          {(_, path) => (
            <>
              <TextField {...field([...path, "mac"], "MAC address", "the NIC that boots")} />
              <TextField {...field([...path, "device"], "NIC's name")} />
              <ListField {...field([...path, "addresses"], "Addresses", "dhcp, or 192.0.2.10/24")} />
              <TextField {...field([...path, "router"], "Router")} />
              <TextField {...field([...path, "vlan"], "VLAN")} />
              <TextField {...field([...path, "on"], "On interface")} />
              <ListField {...field([...path, "bond"], "Bond of")} />
              <ChoiceField {...field([...path, "bond_mode"], "Shared")} choices={BOND_MODES} />
              <ListField {...field([...path, "bridge"], "Bridge of")} />
            </>
          )}
        </Named>
      </Group>
      <Group title="Software" says={says("software")}>
        <ListField {...field(["software", "packages"], "Packages")} />
        <ListField {...field(["software", "sets"], "Sets of packages")} />
        <TextField {...field(["software", "edition"], "Edition")} />
        <TextField {...field(["software", "product_key"], "Product key")} />
        <TextField {...field(["software", "source"], "Source", "a mirror's URL, or image")} />
        <Named form={form} path={["software", "repositories"]} what="repository" fresh={{ url: "http://" }}>
          {(_, path) => (
            <>
              <TextField {...field([...path, "url"], "URL")} />
              <TextField {...field([...path, "suite"], "Suite", "of Debian packages")} />
              <ListField {...field([...path, "components"], "Components", "main")} />
              <TextField {...field([...path, "key"], "Key's URL")} />
            </>
          )}
        </Named>
      </Group>
      <Group title="Kernel and security" says={says("kernel_parameters", "installer_parameters", "security")}>
        <ListField {...field(["kernel_parameters"], "Its kernel")} />
        {answers && <ListField {...field(["installer_parameters"], "Installer's kernel")} />}
        <ChoiceField
          {...field(["security", "mandatory_access"], "SELinux")}
          choices={{ enforcing: "enforcing", permissive: "permissive", disabled: "disabled" }}
        />
        <ChoiceField {...field(["security", "firewall"], "Firewall")} choices={{ on: "on, SSH open", off: "off" }} />
      </Group>
      <Group title="Scripts" says={says("last_steps", "first_boot")}>
        <p className="text-base-content/75 sm:col-span-2">At the installer's end, within the new system:</p>
        <Named form={form} path={["last_steps"]} what="last step" fresh={"#!/bin/sh\n"}>
          {(_, path) => <LongField {...field(path, "Script")} />}
        </Named>
        <p className="pt-2 text-base-content/75 sm:col-span-2">Once, when the new system starts for the first time:</p>
        <Named form={form} path={["first_boot"]} what="first-boot script" fresh={"#!/bin/sh\n"}>
          {(_, path) => <LongField {...field(path, "Script")} />}
        </Named>
      </Group>
      <Group title="Questions" says={says("questions")}>
        <Named form={form} path={["questions"]} what="question" fresh={{ ask: "" }}>
          {(name, path) => (
            <>
              <TextField {...field([...path, "ask"], "What is asked", `used as {{ asked.${name} }}`)} />
              <QuestionKind form={form} path={[...path, "kind"]} />
              <TextField {...field([...path, "default"], "Proposed")} />
            </>
          )}
        </Named>
      </Group>
      <Group title="Parts in an installer's own format" says={says("formats", "without")}>
        <ListField {...field(["without"], "Take away", "users.clerk: from earlier layers")} />
        {Object.entries(PLACES).map(([family, places]) => (
          <details key={family} className="sm:col-span-2" open={at(form.draft, ["formats", family]) !== undefined}>
            <summary className="cursor-pointer">{family}</summary>
            <div className="grid gap-x-4 gap-y-1 sm:grid-cols-[9rem_minmax(0,1fr)]">
              {places.map((place) => (
                <LongField key={place} {...field(["formats", family, "fragments", place], place.replaceAll("_", " "))} />
              ))}
              <LongField {...field(["formats", family, "template"], "the whole", "{{ generated }} is what is written otherwise")} />
            </div>
          </details>
        ))}
      </Group>
    </div>
  );
}

function DiskFields({ form, path }: { form: Form; path: Path }) {
  const field = (key: string, label: string, hint?: string) => ({ form, path: [...path, key], label, hint });
  return (
    <>
      <TextField {...field("device", "Device", "/dev/sda, or a number for unattended set-up")} />
      <TextField {...field("model", "Model", "Puffin 480*")} />
      <TextField {...field("serial", "Serial number")} />
      <ChoiceField {...field("size", "Of those")} choices={{ smallest: "the smallest", largest: "the largest" }} />
      <TextField {...field("at_least", "At least", "200G")} />
      <TextField {...field("at_most", "At most", "2T")} />
    </>
  );
}

/** The kind of a question; a choice has its choices beside it. */
function QuestionKind({ form, path }: { form: Form; path: Path }) {
  const id = useId();
  const value = at(form.draft, path);
  const isChoice = typeof value === "object";
  return (
    <>
      <label htmlFor={id} className="pt-1 text-base-content/75">
        Kind
      </label>
      <select
        id={id}
        className="select select-sm w-full"
        value={isChoice ? "choice" : typeof value === "string" ? value : "text"}
        onChange={(event) => {
          const kind = event.target.value;
          form.change(put(form.draft, path, kind === "choice" ? { choice: ["first", "second"] } : kind));
        }}
      >
        <option value="text">text</option>
        <option value="number">number</option>
        <option value="yes-no">yes or no</option>
        <option value="choice">one of several</option>
      </select>
      {isChoice && <ListField form={form} path={[...path, "choice"]} label="Choices" />}
    </>
  );
}
