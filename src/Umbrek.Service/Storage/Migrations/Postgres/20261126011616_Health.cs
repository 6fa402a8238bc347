using System;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Umbrek.Service.Storage.Migrations.Postgres
{
    /// <inheritdoc />
    public partial class Health : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<double>(
                name: "SwapUsedPercent",
                table: "Samples",
                type: "double precision",
                nullable: true);

            migrationBuilder.AddColumn<double>(
                name: "TemperatureCelsius",
                table: "Samples",
                type: "double precision",
                nullable: true);

            migrationBuilder.AddColumn<DateTimeOffset>(
                name: "StorageFullAt",
                table: "Hosts",
                type: "timestamp with time zone",
                nullable: true);

            migrationBuilder.CreateTable(
                name: "Alerts",
                columns: table => new
                {
                    Id = table.Column<Guid>(type: "uuid", nullable: false),
                    HostId = table.Column<Guid>(type: "uuid", nullable: false),
                    Check = table.Column<string>(type: "text", nullable: false),
                    CheckName = table.Column<string>(type: "text", nullable: false),
                    Subsystem = table.Column<int>(type: "integer", nullable: false),
                    Severity = table.Column<int>(type: "integer", nullable: false),
                    State = table.Column<int>(type: "integer", nullable: false),
                    RaisedAt = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: false),
                    What = table.Column<string>(type: "text", nullable: false),
                    Follows = table.Column<string>(type: "text", nullable: true),
                    Fix = table.Column<string>(type: "text", nullable: true),
                    StateAt = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: false),
                    StateBy = table.Column<string>(type: "text", nullable: true),
                    SnoozedUntil = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: true),
                    Note = table.Column<string>(type: "text", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Alerts", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Alerts_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "CheckSettings",
                columns: table => new
                {
                    Id = table.Column<Guid>(type: "uuid", nullable: false),
                    Check = table.Column<string>(type: "text", nullable: false),
                    GroupId = table.Column<Guid>(type: "uuid", nullable: true),
                    HostId = table.Column<Guid>(type: "uuid", nullable: true),
                    Off = table.Column<bool>(type: "boolean", nullable: true),
                    Severity = table.Column<int>(type: "integer", nullable: true),
                    When = table.Column<string>(type: "text", nullable: true),
                    Until = table.Column<string>(type: "text", nullable: true),
                    HoldSeconds = table.Column<double>(type: "double precision", nullable: true),
                    Note = table.Column<string>(type: "text", nullable: true),
                    ChangedAt = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: false),
                    ChangedBy = table.Column<string>(type: "text", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_CheckSettings", x => x.Id);
                    table.ForeignKey(
                        name: "FK_CheckSettings_Groups_GroupId",
                        column: x => x.GroupId,
                        principalTable: "Groups",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_CheckSettings_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Checks",
                columns: table => new
                {
                    Id = table.Column<Guid>(type: "uuid", nullable: false),
                    Key = table.Column<string>(type: "text", nullable: false),
                    Name = table.Column<string>(type: "text", nullable: false),
                    Subsystem = table.Column<int>(type: "integer", nullable: false),
                    Severity = table.Column<int>(type: "integer", nullable: false),
                    When = table.Column<string>(type: "text", nullable: false),
                    Until = table.Column<string>(type: "text", nullable: true),
                    HoldSeconds = table.Column<double>(type: "double precision", nullable: false),
                    Follows = table.Column<string>(type: "text", nullable: true),
                    Fix = table.Column<string>(type: "text", nullable: true),
                    GroupId = table.Column<Guid>(type: "uuid", nullable: true),
                    CreatedAt = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: false),
                    CreatedBy = table.Column<string>(type: "text", nullable: false),
                    Version = table.Column<long>(type: "bigint", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Checks", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Checks_Groups_GroupId",
                        column: x => x.GroupId,
                        principalTable: "Groups",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Rollups",
                columns: table => new
                {
                    HostId = table.Column<Guid>(type: "uuid", nullable: false),
                    Span = table.Column<int>(type: "integer", nullable: false),
                    At = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: false),
                    Figures = table.Column<byte[]>(type: "bytea", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Rollups", x => new { x.HostId, x.Span, x.At });
                });

            migrationBuilder.CreateIndex(
                name: "IX_Alerts_HostId_RaisedAt",
                table: "Alerts",
                columns: new[] { "HostId", "RaisedAt" });

            migrationBuilder.CreateIndex(
                name: "IX_Alerts_State",
                table: "Alerts",
                column: "State");

            migrationBuilder.CreateIndex(
                name: "IX_CheckSettings_Check_GroupId_HostId",
                table: "CheckSettings",
                columns: new[] { "Check", "GroupId", "HostId" },
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_CheckSettings_GroupId",
                table: "CheckSettings",
                column: "GroupId");

            migrationBuilder.CreateIndex(
                name: "IX_CheckSettings_HostId",
                table: "CheckSettings",
                column: "HostId");

            migrationBuilder.CreateIndex(
                name: "IX_Checks_GroupId",
                table: "Checks",
                column: "GroupId");

            migrationBuilder.CreateIndex(
                name: "IX_Checks_Key",
                table: "Checks",
                column: "Key",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_Rollups_Span_At",
                table: "Rollups",
                columns: new[] { "Span", "At" });
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "Alerts");

            migrationBuilder.DropTable(
                name: "CheckSettings");

            migrationBuilder.DropTable(
                name: "Checks");

            migrationBuilder.DropTable(
                name: "Rollups");

            migrationBuilder.DropColumn(
                name: "SwapUsedPercent",
                table: "Samples");

            migrationBuilder.DropColumn(
                name: "TemperatureCelsius",
                table: "Samples");

            migrationBuilder.DropColumn(
                name: "StorageFullAt",
                table: "Hosts");
        }
    }
}
