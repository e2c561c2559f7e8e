// The fields of how many machines a pool has, and of what kind.
import { More } from "../../parts/form/Form";
import { LinesField, Row, SelectField, TextField } from "../../parts/form/fields";
import type { Option } from "../../parts/form/fields";

const KINDS: Option[] = [
  { value: "standing", label: "standing: many jobs" },
  { value: "single-use", label: "single-use: one job" },
];

export function SupplyFields() {
  return (
    <>
      <Row>
        <TextField name="floor" label="Floor" width="10em" inputMode="numeric" unit="machines" hint="Never fewer." />
        <TextField name="ceiling" label="Ceiling" width="10em" inputMode="numeric" unit="machines" hint="Never more." />
        <TextField name="spare" label="Spare" width="10em" inputMode="numeric" unit="machines" hint="Idle beyond demand." />
        <TextField name="dwell" label="Dwell" width="10em" placeholder="5m" hint="How long an idle machine is kept." />
      </Row>
      <Row>
        <SelectField name="kind" label="Kind of machine" width="13em" options={KINDS} />
        <TextField name="slots" label="Slots" width="8em" inputMode="numeric" hint="Of each machine." />
        <TextField name="day_budget" label="Budget per day" width="9em" inputMode="decimal" hint="Empty: none." />
        <TextField name="month_budget" label="Budget per month" width="9em" inputMode="decimal" hint="Empty: none." />
      </Row>
      <More label="Image, size, price, weekly times, settings and facts">
        <Row>
          <TextField name="image" label="Image" width="12em" />
          <TextField name="size" label="Size" width="10em" />
          <TextField name="price" label="Price per hour" width="10em" inputMode="decimal" hint="Empty: the supplier's." />
        </Row>
        <LinesField
          name="during"
          label="Weekly times"
          rows={2}
          placeholder="mon-fri 08:00-18:00 floor=2 spare=1"
          hint="Another floor or spare at these times, one period per line."
        />
        <TextField name="zone" label="Time zone" width="16em" placeholder="Europe/Dublin" hint="Of the weekly times and the budgets. Empty: UTC." />
        <Row>
          <LinesField name="settings" label="Settings for the supplier" width="17em" rows={2} placeholder="zone=b" hint="NAME=VALUE, one per line." />
          <LinesField name="facts" label="Facts of its machines" width="17em" rows={2} placeholder="os=linux" hint="Empty: discovered with a probe machine." />
        </Row>
      </More>
    </>
  );
}
